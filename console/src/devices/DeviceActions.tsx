import AsideIcon from '@mui/icons-material/DoNotDisturbOnOutlined';
import BlinkIcon from '@mui/icons-material/LightModeOutlined';
import BackIcon from '@mui/icons-material/UndoOutlined';
import NoteIcon from '@mui/icons-material/EditNoteOutlined';
import MergeIcon from '@mui/icons-material/MergeOutlined';
import SplitIcon from '@mui/icons-material/CallSplitOutlined';
import GroupIcon from '@mui/icons-material/WorkspacesOutlined';
import PinIcon from '@mui/icons-material/PushPinOutlined';
import RegisterIcon from '@mui/icons-material/FactCheckOutlined';
import { Autocomplete, Button, Stack, TextField, Tooltip, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Device, type Schema } from '../api/client';
import { Failure, FormDialog } from '../app/parts';
import { useMay } from '../app/queries';
import { visible } from '../lib/format';
import { MergeDialog, PinDialog, SplitDialog } from './Grouping';

type Open = 'note' | 'aside' | 'group' | 'register' | 'merge' | 'split' | 'pin' | undefined;

/** What can be done with a device: note, register, group, set aside, and what is one device. */
export function Actions({ d }: { d: Device }) {
  const [open, setOpen] = useState<Open>();
  const may = useMay('sweep');
  const takeBack = useChange(d, () => answer(api.DELETE('/api/v1/devices/{device}/aside', { params: { path: { device: d.id } } })));
  const blink = useMutation({ mutationFn: () => answer(api.POST('/api/v1/devices/{device}/blink', { params: { path: { device: d.id } } })) });
  if (!may) return null;
  const close = () => setOpen(undefined);
  return (
    <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap' }}>
      {!d.registerEntry && (
        <Button variant="contained" startIcon={<RegisterIcon />} onClick={() => setOpen('register')}>
          Add to the register
        </Button>
      )}
      <Button variant="outlined" startIcon={<NoteIcon />} onClick={() => setOpen('note')}>
        {d.note ? 'Change the note' : 'Write a note'}
      </Button>
      <Button variant="outlined" startIcon={<GroupIcon />} onClick={() => setOpen('group')}>
        {d.group ? `Group: ${visible(d.group)}` : 'Put into a group'}
      </Button>
      {d.aside ? (
        <Button variant="outlined" startIcon={<BackIcon />} loading={takeBack.isPending} onClick={() => takeBack.mutate(undefined)}>
          Take back
        </Button>
      ) : (
        <Button variant="outlined" startIcon={<AsideIcon />} onClick={() => setOpen('aside')}>
          Set aside
        </Button>
      )}
      {d.firstSeen && (
        <Button variant="outlined" startIcon={<MergeIcon />} onClick={() => setOpen('merge')}>
          Merge
        </Button>
      )}
      {d.addresses.length + d.macs.length > 2 && (
        <Button variant="outlined" startIcon={<SplitIcon />} onClick={() => setOpen('split')}>
          Split
        </Button>
      )}
      {d.firstSeen && !d.unit && (
        <Button variant="outlined" startIcon={<PinIcon />} onClick={() => setOpen('pin')}>
          Pin
        </Button>
      )}
      {d.blinks && (
        <Tooltip describeChild title="The device shows itself for some seconds; nothing of it is changed">
          <Button variant="outlined" startIcon={<BlinkIcon />} loading={blink.isPending} onClick={() => blink.mutate()}>
            {blink.isSuccess ? 'Blink again' : 'Blink'}
          </Button>
        </Tooltip>
      )}
      <Failure failure={blink.error} />
      {open === 'group' && <GroupDialog d={d} onClose={close} />}
      {open === 'pin' && <PinDialog d={d} onClose={close} />}
      {open === 'merge' && <MergeDialog d={d} onClose={close} />}
      {open === 'split' && <SplitDialog d={d} onClose={close} />}
      {open === 'note' && <NoteDialog d={d} onClose={close} />}
      {open === 'aside' && <AsideDialog d={d} onClose={close} />}
      {open === 'register' && <RegisterDialog d={d} onClose={close} />}
    </Stack>
  );
}

/** Carries out a change of a device, and reads everything anew that shows it. */
export function useChange<T>(d: Device, change: (value: T) => Promise<unknown>, then?: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['device', d.id] });
      void queries.invalidateQueries({ queryKey: ['decisions', d.id] });
      void queries.invalidateQueries({ queryKey: ['tenures', d.id] });
      for (const key of ['devices', 'overview', 'register', 'fence', 'values']) void queries.invalidateQueries({ queryKey: [key] });
      then?.();
    },
  });
}

function NoteDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [text, setText] = useState(d.note ?? '');
  const set = useChange(d, () => answer(api.PUT('/api/v1/devices/{device}/note', { params: { path: { device: d.id }, header: { 'If-Match': d.tag } }, body: { text } })), onClose);
  return (
    <FormDialog title="Note" does="Keep" failure={set.error} busy={set.isPending} onSubmit={() => set.mutate(undefined)} onClose={onClose}>
      <TextField label="Text of the note" multiline minRows={3} autoFocus value={text} onChange={(e) => setText(e.target.value)} helperText="Without a text the note is taken away." />
    </FormDialog>
  );
}

function GroupDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [name, setName] = useState(d.group ?? '');
  const values = useQuery({ queryKey: ['values', d.site], queryFn: () => answer(api.GET('/api/v1/sites/{site}/values', { params: { path: { site: d.site } } })) });
  const set = useChange(d, () => answer(api.PUT('/api/v1/devices/{device}/group', { params: { path: { device: d.id }, header: { 'If-Match': d.tag } }, body: { name } })), onClose);
  return (
    <FormDialog title="Group" does="Keep" failure={set.error} busy={set.isPending} onSubmit={() => set.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">What the device belongs to: a floor, a hallway, a rack. The list can show one group alone.</Typography>
      <Autocomplete freeSolo options={values.data?.group ?? []} getOptionLabel={visible} inputValue={name} onInputChange={(_, text) => setName(text)}
        renderInput={(input) => <TextField {...input} label="Name of the group" autoFocus helperText="Without a name the device is in no group." />} />
    </FormDialog>
  );
}

function AsideDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [reason, setReason] = useState('');
  const set = useChange(d, () => answer(api.PUT('/api/v1/devices/{device}/aside', { params: { path: { device: d.id } }, body: { reason } })), onClose);
  return (
    <FormDialog title="Set aside" does="Set it aside" failure={set.error} busy={set.isPending} onSubmit={() => set.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">The device is known, and left out of what nobody manages. It can be taken back.</Typography>
      <TextField label="Reason" required autoFocus value={reason} onChange={(e) => setReason(e.target.value)} />
    </FormDialog>
  );
}

function RegisterDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [entry, setEntry] = useState<Schema['NewEntry']>({ name: d.name ?? '', location: '', responsible: '', note: '' });
  const add = useChange(d, () => answer(api.POST('/api/v1/devices/{device}/register', { params: { path: { device: d.id } }, body: entry })), onClose);
  const field = (key: 'name' | 'location' | 'responsible' | 'note', label: string, help?: string) => (
    <TextField label={label} value={entry[key] ?? ''} onChange={(e) => setEntry({ ...entry, [key]: e.target.value })} helperText={help} autoFocus={key === 'name'} />
  );
  return (
    <FormDialog title="Add to the register" does="Add" failure={add.error} busy={add.isPending} onSubmit={() => add.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">MAC address, address, maker, model and kind are entered as they were seen.</Typography>
      {field('name', 'Name in the register')}
      {field('location', 'Location')}
      {field('responsible', 'Responsible', 'A role or a team')}
      {field('note', 'Remark')}
    </FormDialog>
  );
}
