import { Alert, Checkbox, FormControlLabel, FormGroup, Stack, TextField, Typography } from '@mui/material';
import { useState, type ReactNode } from 'react';
import { useNavigate } from 'react-router';

import { answer, api, type Device, type Schema } from '../api/client';
import { FormDialog } from '../app/Dialogs';
import { visible } from '../lib/format';
import { useChange } from './useChange';
import { words } from './words';

type Grouping = Schema['Grouping'];

/** What devices there would be: shown before anything is done. */
function Preview({ grouping }: { grouping: Grouping }) {
  return (
    <Alert severity="info">
      <Typography variant="body2">{words.thisWouldFollowItCan}</Typography>
      {grouping.devices.map((line) => (
        <Typography key={line.id} variant="body2" sx={{ overflowWrap: 'anywhere' }}>
          {line.id ? words.deviceNumber(line.id) : words.aNewDevice}: {visible([line.name, line.addresses.join(', '), line.mac].filter(Boolean).join(', '))}
        </Typography>
      ))}
    </Alert>
  );
}

interface Props {
  d: Device;
  onClose: () => void;
}

/** What somebody says of a device: first it is asked what would follow, and then it is done. Whatever is changed meanwhile has to be shown again. */
function useGrouping(say: (preview: boolean, reason: string, despite: boolean) => Promise<Grouping>, done: (grouping: Grouping) => unknown) {
  const [shown, setShown] = useState<Grouping>();
  const [reason, setReason] = useState('');
  const [despite, setDespite] = useState(false);
  const change = useChange(async () => {
    const follows = await say(shown === undefined, reason, despite);
    if (shown === undefined) setShown(follows);
    else await done(follows);
  });
  const outdated = () => setShown(undefined);
  return { shown, reason, setReason, despite, setDespite, change, outdated };
}

interface GroupingFormProps {
  title: string;
  does: string;
  grouping: ReturnType<typeof useGrouping>;
  /** Whether it can be done where something speaks against it. */
  mayDespite?: boolean;
  onClose: () => void;
  children: ReactNode;
}

/** The form of such a dialog; the children say what is meant. */
function GroupingForm({ title, does, grouping, mayDespite, onClose, children }: GroupingFormProps) {
  const { shown, change } = grouping;
  return (
    <FormDialog
      title={title}
      does={shown ? does : words.showWhatFollows}
      failure={change.error}
      busy={change.isPending}
      onSubmit={() => change.mutate(undefined)}
      onClose={onClose}
    >
      {children}
      <TextField label={words.why} value={grouping.reason} onChange={(e) => grouping.setReason(e.target.value)} />
      {mayDespite && (
        <FormControlLabel
          control={
            <Checkbox
              checked={grouping.despite}
              onChange={(e) => {
                grouping.setDespite(e.target.checked);
                grouping.outdated();
              }}
            />
          }
          label={words.evenIfSomethingSpeaksAgainst}
        />
      )}
      {shown && <Preview grouping={shown} />}
    </FormDialog>
  );
}

/** Says that a device is one with another. */
export function MergeDialog({ d, onClose }: Props) {
  const [other, setOther] = useState('');
  const navigate = useNavigate();
  const grouping = useGrouping(
    (preview, reason, despite) =>
      answer(api.POST('/api/v1/devices/{device}/merge', { params: { path: { device: d.id } }, body: { other: Number(other), reason, despite, preview } })),
    async ({ devices: [one] }) => {
      onClose();
      if (one) await navigate(`/sites/${d.site}/devices/${one.id}`);
    },
  );
  return (
    <GroupingForm title={words.oneDeviceWithAnotherToo} does={words.merge} grouping={grouping} mayDespite onClose={onClose}>
      <Typography color="textSecondary">{words.forWhatWasSeenAs}</Typography>
      <TextField
        label={words.numberOfTheOtherDevice}
        required
        autoFocus
        value={other}
        slotProps={{ htmlInput: { inputMode: 'numeric', pattern: '[0-9]+' } }}
        onChange={(e) => {
          setOther(e.target.value);
          grouping.outdated();
        }}
        helperText={words.itStandsInTheList}
      />
    </GroupingForm>
  );
}

/** Says that some addresses and MAC addresses of a device are another one's. */
export function SplitDialog({ d, onClose }: Props) {
  const [part, setPart] = useState<string[]>([]);
  const macs = d.macs.map((m) => m.mac);
  const grouping = useGrouping(
    (preview, reason) =>
      answer(
        api.POST('/api/v1/devices/{device}/split', {
          params: { path: { device: d.id } },
          body: { addrs: part.filter((text) => !macs.includes(text)), macs: part.filter((text) => macs.includes(text)), reason, preview },
        }),
      ),
    onClose,
  );
  const choose = (text: string, chosen: boolean) => {
    setPart(chosen ? [...part, text] : part.filter((other) => other !== text));
    grouping.outdated();
  };
  return (
    <GroupingForm title={words.twoDevices} does={words.split} grouping={grouping} onClose={onClose}>
      <Typography color="textSecondary">{words.whatBelongsToTheOther}</Typography>
      <Stack sx={{ maxHeight: 260, overflowY: 'auto' }} tabIndex={0} role="group" aria-label={words.addressesAndMacAddresses}>
        <FormGroup>
          {[...d.addresses, ...macs].map((text) => (
            <FormControlLabel key={text} control={<Checkbox checked={part.includes(text)} onChange={(e) => choose(text, e.target.checked)} />} label={text} />
          ))}
        </FormGroup>
      </Stack>
    </GroupingForm>
  );
}

/** Says that whatever is met at an address or with a MAC address is this device. */
export function PinDialog({ d, onClose }: Props) {
  const [at, setAt] = useState(d.addresses[0] ?? '');
  const grouping = useGrouping(
    (preview, reason, despite) => answer(api.POST('/api/v1/devices/{device}/pin', { params: { path: { device: d.id } }, body: { at, reason, despite, preview } })),
    onClose,
  );
  return (
    <GroupingForm title={words.pinTheDeviceToA} does={words.pin} grouping={grouping} mayDespite onClose={onClose}>
      <Typography color="textSecondary">{words.whoeverIsMetAtThis}</Typography>
      <TextField
        label={words.addressOrMacAddress}
        required
        autoFocus
        value={at}
        onChange={(e) => {
          setAt(e.target.value.trim());
          grouping.outdated();
        }}
      />
    </GroupingForm>
  );
}
