import { Autocomplete, Button, Stack, TextField, Tooltip, Typography } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Device, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { FormDialog } from '../app/Dialogs';
import { Failure } from '../app/parts';
import { useMay } from '../app/queries';
import { visible } from '../lib/format';
import { MergeDialog, PinDialog, SplitDialog } from './Grouping';
import { useChange } from './useChange';
import { words } from './words';

type Open = 'note' | 'aside' | 'group' | 'register' | 'merge' | 'split' | 'pin' | undefined;

/** What can be done with a device: note, register, group, set aside, and what is one device. */
export function Actions({ d }: { d: Device }) {
  const [open, setOpen] = useState<Open>();
  const may = useMay('sweep');
  const takeBack = useChange(() => answer(api.DELETE('/api/v1/devices/{device}/aside', { params: { path: { device: d.id } } })));
  const blink = useMutation({ mutationFn: () => answer(api.POST('/api/v1/devices/{device}/blink', { params: { path: { device: d.id } } })) });
  if (!may) return null;
  const close = () => setOpen(undefined);
  return (
    <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap' }}>
      {!d.registerEntry && (
        <Button variant="contained" startIcon={<Icon of={icons.factCheck} />} onClick={() => setOpen('register')}>
          {words.addToTheRegister}
        </Button>
      )}
      <Button variant="outlined" startIcon={<Icon of={icons.editNote} />} onClick={() => setOpen('note')}>
        {d.note ? words.changeTheNote : words.writeANote}
      </Button>
      <Button variant="outlined" startIcon={<Icon of={icons.workspaces} />} onClick={() => setOpen('group')}>
        {d.group ? words.group(visible(d.group)) : words.putIntoAGroup}
      </Button>
      {d.aside ? (
        <Button variant="outlined" startIcon={<Icon of={icons.undo} />} loading={takeBack.isPending} onClick={() => takeBack.mutate(undefined)}>
          {words.undoSetAside}
        </Button>
      ) : (
        <Button variant="outlined" startIcon={<Icon of={icons.doNotDisturbOn} />} onClick={() => setOpen('aside')}>
          {words.setAsideToo}
        </Button>
      )}
      {d.firstSeen && (
        <Button variant="outlined" startIcon={<Icon of={icons.merge} />} onClick={() => setOpen('merge')}>
          {words.merge}
        </Button>
      )}
      {d.addresses.length + d.macs.length > 2 && (
        <Button variant="outlined" startIcon={<Icon of={icons.callSplit} />} onClick={() => setOpen('split')}>
          {words.split}
        </Button>
      )}
      {d.firstSeen && !d.unit && (
        <Button variant="outlined" startIcon={<Icon of={icons.pushPin} />} onClick={() => setOpen('pin')}>
          {words.pin}
        </Button>
      )}
      {d.blinks && (
        <Tooltip describeChild title={words.theDeviceShowsItselfFor}>
          <Button variant="outlined" startIcon={<Icon of={icons.lightMode} />} loading={blink.isPending} onClick={() => blink.mutate()}>
            {blink.isSuccess ? words.blinkAgain : words.blink}
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

function NoteDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [text, setText] = useState(d.note ?? '');
  const set = useChange(() => answer(api.PUT('/api/v1/devices/{device}/note', { params: { path: { device: d.id }, header: { 'If-Match': d.tag } }, body: { text } })), onClose);
  return (
    <FormDialog title={words.note} does={words.save} failure={set.error} busy={set.isPending} onSubmit={() => set.mutate(undefined)} onClose={onClose}>
      <TextField label={words.textOfTheNote} multiline minRows={3} autoFocus value={text} onChange={(e) => setText(e.target.value)} helperText={words.withoutATextTheNote} />
    </FormDialog>
  );
}

function GroupDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [name, setName] = useState(d.group ?? '');
  const values = useQuery({ queryKey: keys.values(d.site), queryFn: () => answer(api.GET('/api/v1/sites/{site}/values', { params: { path: { site: d.site } } })) });
  const set = useChange(() => answer(api.PUT('/api/v1/devices/{device}/group', { params: { path: { device: d.id }, header: { 'If-Match': d.tag } }, body: { name } })), onClose);
  return (
    <FormDialog title={words.groupToo} does={words.save} failure={set.error} busy={set.isPending} onSubmit={() => set.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">{words.whatTheDeviceBelongsTo}</Typography>
      <Autocomplete
        freeSolo
        options={values.data?.group ?? []}
        getOptionLabel={visible}
        inputValue={name}
        onInputChange={(_, text) => setName(text)}
        renderInput={(input) => <TextField {...input} label={words.nameOfTheGroup} autoFocus helperText={words.withoutANameTheDevice} />}
      />
    </FormDialog>
  );
}

function AsideDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [reason, setReason] = useState('');
  const set = useChange(() => answer(api.PUT('/api/v1/devices/{device}/aside', { params: { path: { device: d.id } }, body: { reason } })), onClose);
  return (
    <FormDialog title={words.setAsideToo} does={words.setItAside} failure={set.error} busy={set.isPending} onSubmit={() => set.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">{words.theDeviceIsKnownAnd}</Typography>
      <TextField label={words.reason} required autoFocus value={reason} onChange={(e) => setReason(e.target.value)} />
    </FormDialog>
  );
}

function RegisterDialog({ d, onClose }: { d: Device; onClose: () => void }) {
  const [entry, setEntry] = useState<Schema['NewEntry']>({ name: d.name ?? '', location: '', responsible: '', note: '' });
  const add = useChange(() => answer(api.POST('/api/v1/devices/{device}/register', { params: { path: { device: d.id } }, body: entry })), onClose);
  const field = (key: 'name' | 'location' | 'responsible' | 'note', label: string, help?: string) => (
    <TextField label={label} value={entry[key] ?? ''} onChange={(e) => setEntry({ ...entry, [key]: e.target.value })} helperText={help} autoFocus={key === 'name'} />
  );
  return (
    <FormDialog title={words.addToTheRegister} does={words.add} failure={add.error} busy={add.isPending} onSubmit={() => add.mutate(undefined)} onClose={onClose}>
      <Typography color="textSecondary">{words.macAddressAddressMakerModel}</Typography>
      {field('name', words.nameInTheRegister)}
      {field('location', words.location)}
      {field('responsible', words.responsible, words.aRoleOrATeam)}
      {field('note', words.remark)}
    </FormDialog>
  );
}
