import AsideIcon from '@mui/icons-material/DoNotDisturbOnOutlined';
import BackIcon from '@mui/icons-material/UndoOutlined';
import NoteIcon from '@mui/icons-material/EditNoteOutlined';
import RegisterIcon from '@mui/icons-material/FactCheckOutlined';
import { Button, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Device, type Schema } from '../api/client';
import { FormDialog } from '../app/parts';
import { useMay } from '../app/queries';

type Open = 'note' | 'aside' | 'register' | undefined;

/** What can be done with a device: note, register, set aside. */
export function Actions({ d }: { d: Device }) {
  const [open, setOpen] = useState<Open>();
  const may = useMay('sweep');
  const takeBack = useChange(d, () => answer(api.DELETE('/api/v1/devices/{device}/aside', { params: { path: { device: d.id } } })));
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
      {d.aside ? (
        <Button variant="outlined" startIcon={<BackIcon />} loading={takeBack.isPending} onClick={() => takeBack.mutate(undefined)}>
          Take back
        </Button>
      ) : (
        <Button variant="outlined" startIcon={<AsideIcon />} onClick={() => setOpen('aside')}>
          Set aside
        </Button>
      )}
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
      for (const key of ['devices', 'overview', 'register', 'fence']) void queries.invalidateQueries({ queryKey: [key] });
      then?.();
    },
  });
}

function NoteDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [text, setText] = useState(d.note ?? '');
  const set = useChange(d, () => answer(api.PUT('/api/v1/devices/{device}/note', { params: { path: { device: d.id } }, body: { text } })), onClose);
  return (
    <FormDialog title="Note" does="Keep" failure={set.error} busy={set.isPending} onSubmit={() => set.mutate(undefined)} onClose={onClose}>
      <TextField label="Text of the note" multiline minRows={3} autoFocus value={text} onChange={(e) => setText(e.target.value)} helperText="Without a text the note is taken away." />
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
