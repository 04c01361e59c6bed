import { Alert, Checkbox, FormControlLabel, FormGroup, Stack, TextField, Typography } from '@mui/material';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { answer, api, type Device, type Schema } from '../api/client';
import { FormDialog } from '../app/parts';
import { visible } from '../lib/format';
import { useChange } from './DeviceActions';

type Grouping = Schema['Grouping'];

/** What devices there would be: shown before anything is done. */
function Preview({ grouping }: { grouping: Grouping }) {
  return (
    <Alert severity="info">
      <Typography variant="body2">This would follow. It can be undone among the decisions of the device.</Typography>
      {grouping.devices.map((line) => (
        <Typography key={line.id} variant="body2" sx={{ overflowWrap: 'anywhere' }}>
          {line.id ? `Device ${line.id}` : 'A new device'}: {visible([line.name, line.addresses.join(', '), line.mac].filter(Boolean).join(', '))}
        </Typography>
      ))}
    </Alert>
  );
}

interface Props {
  d: Device;
  onClose: () => void;
}

export function MergeDialog({ d, onClose }: Props) {
  const [other, setOther] = useState('');
  const [reason, setReason] = useState('');
  const [despite, setDespite] = useState(false);
  const [shown, setShown] = useState<Grouping>();
  const navigate = useNavigate();
  const ask = (preview: boolean) =>
    answer(api.POST('/api/v1/devices/{device}/merge', { params: { path: { device: d.id } }, body: { other: Number(other), reason, despite, preview } }));
  const change = useChange(d, async () => {
    const done = await ask(shown === undefined);
    if (shown === undefined) {
      setShown(done);
      return;
    }
    onClose();
    const [one] = done?.devices ?? [];
    if (one) await navigate(`/sites/${d.site}/devices/${one.id}`);
  });
  return (
    <FormDialog title="One device with another" does={shown ? 'Merge' : 'Show what follows'} failure={change.error} busy={change.isPending} onSubmit={() => change.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">For what was seen as two devices and is one, as the cards of one machine. The older number stays.</Typography>
      <TextField label="Number of the other device" required autoFocus value={other} slotProps={{ htmlInput: { inputMode: 'numeric', pattern: '[0-9]+' } }}
        onChange={(e) => { setOther(e.target.value); setShown(undefined); }} helperText="It stands in the list of devices, and in the address of the device's page." />
      <TextField label="Why" value={reason} onChange={(e) => setReason(e.target.value)} />
      <FormControlLabel control={<Checkbox checked={despite} onChange={(e) => { setDespite(e.target.checked); setShown(undefined); }} />} label="Even if something speaks against it" />
      {shown && <Preview grouping={shown} />}
    </FormDialog>
  );
}

export function SplitDialog({ d, onClose }: Props) {
  const [part, setPart] = useState<string[]>([]);
  const [reason, setReason] = useState('');
  const [shown, setShown] = useState<Grouping>();
  const macs = d.macs.map((m) => m.mac);
  const change = useChange(d, async () => {
    const done = await answer(api.POST('/api/v1/devices/{device}/split', {
      params: { path: { device: d.id } },
      body: { addrs: part.filter((text) => !macs.includes(text)), macs: part.filter((text) => macs.includes(text)), reason, preview: shown === undefined },
    }));
    if (shown === undefined) setShown(done);
    else onClose();
  });
  const choose = (text: string, chosen: boolean) => {
    setPart(chosen ? [...part, text] : part.filter((other) => other !== text));
    setShown(undefined);
  };
  return (
    <FormDialog title="Two devices" does={shown ? 'Split' : 'Show what follows'} failure={change.error} busy={change.isPending} onSubmit={() => change.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">What belongs to the other device? The rest keeps the number.</Typography>
      <Stack sx={{ maxHeight: 260, overflowY: 'auto' }} tabIndex={0} role="group" aria-label="Addresses and MAC addresses">
        <FormGroup>
          {[...d.addresses, ...macs].map((text) => (
            <FormControlLabel key={text} control={<Checkbox checked={part.includes(text)} onChange={(e) => choose(text, e.target.checked)} />} label={text} />
          ))}
        </FormGroup>
      </Stack>
      <TextField label="Why" value={reason} onChange={(e) => setReason(e.target.value)} />
      {shown && <Preview grouping={shown} />}
    </FormDialog>
  );
}

export function PinDialog({ d, onClose }: Props) {
  const [at, setAt] = useState(d.addresses[0] ?? '');
  const [reason, setReason] = useState('');
  const [despite, setDespite] = useState(false);
  const [shown, setShown] = useState<Grouping>();
  const change = useChange(d, async () => {
    const done = await answer(api.POST('/api/v1/devices/{device}/pin', { params: { path: { device: d.id } }, body: { at, reason, despite, preview: shown === undefined } }));
    if (shown === undefined) setShown(done);
    else onClose();
  });
  return (
    <FormDialog title="Pin the device to a place" does={shown ? 'Pin' : 'Show what follows'} failure={change.error} busy={change.isPending} onSubmit={() => change.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">Whoever is met at this address, or with this MAC address, is this device, whatever else it shows: for a device that is replaced part by part, or shows nothing of its own.</Typography>
      <TextField label="Address or MAC address" required autoFocus value={at} onChange={(e) => { setAt(e.target.value.trim()); setShown(undefined); }} />
      <TextField label="Why" value={reason} onChange={(e) => setReason(e.target.value)} />
      <FormControlLabel control={<Checkbox checked={despite} onChange={(e) => { setDespite(e.target.checked); setShown(undefined); }} />} label="Even if something speaks against it" />
      {shown && <Preview grouping={shown} />}
    </FormDialog>
  );
}
