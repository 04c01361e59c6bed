import { Alert, Button, Link, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQueries } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { aboutDevices, keys, useOutdated } from '../app/keys';
import { FormDialog } from '../app/Dialogs';
import { DeviceText } from '../app/parts';
import { visible } from '../lib/format';
import { words } from './words';

type Entry = Schema['Entry'];
type Field = 'name' | 'mac' | 'address' | 'vendor' | 'model' | 'kind' | 'location' | 'responsible' | 'note';

const fields: { field: Field; label: string; help?: string }[] = [
  { field: 'name', label: words.name },
  { field: 'address', label: words.address, help: words.ofADeviceBeyondA },
  { field: 'mac', label: words.macAddress },
  { field: 'vendor', label: words.maker },
  { field: 'model', label: words.model },
  { field: 'kind', label: words.kind },
  { field: 'location', label: words.location },
  { field: 'responsible', label: words.responsible, help: words.aRoleOrATeam },
  { field: 'note', label: words.remark },
];

/** Adds an entry to the register, or changes one; one that means no device yet is linked to one here. */
export function EntryDialog({ site, entry, onClose }: { site: number; entry: Entry | undefined; onClose: () => void }) {
  const [text, setText] = useState<Schema['EntryText']>(() => ({ ...Object.fromEntries(fields.map(({ field }) => [field, entry?.[field] ?? ''])), extra: entry?.extra }));
  const outdated = useOutdated();
  const done = async () => {
    await outdated(...aboutDevices);
    onClose();
  };
  const save = useMutation({
    mutationFn: () =>
      entry
        ? answer(api.PUT('/api/v1/register/{entry}', { params: { path: { entry: entry.id }, header: { 'If-Match': entry.tag } }, body: text }))
        : answer(api.POST('/api/v1/sites/{site}/register/entries', { params: { path: { site } }, body: text })),
    onSuccess: done,
  });
  return (
    <FormDialog
      title={entry ? words.entryOfTheRegister : words.addADeviceToThe}
      does={entry ? words.save : words.add}
      failure={save.error}
      busy={save.isPending}
      onSubmit={() => save.mutate()}
      onClose={onClose}
    >
      <Typography color="textSecondary">{words.aNameAMacAddress}</Typography>
      {fields.map(({ field, label, help }) => (
        <TextField
          key={field}
          size="small"
          label={label}
          value={text[field] ?? ''}
          autoFocus={field === 'name'}
          helperText={help}
          onChange={(e) => setText({ ...text, [field]: e.target.value })}
        />
      ))}
      {entry?.could && <Candidates site={site} entry={entry} numbers={entry.could} onDone={done} />}
      {entry && <Removal entry={entry} onDone={done} />}
    </FormDialog>
  );
}

/** Devices that an entry could mean. */
function Candidates({ site, entry, numbers, onDone }: { site: number; entry: Entry; numbers: number[]; onDone: () => Promise<void> }) {
  const devices = useQueries({
    queries: numbers.slice(0, 8).map((device) => ({ queryKey: keys.device(device), queryFn: () => answer(api.GET('/api/v1/devices/{device}', { params: { path: { device } } })) })),
  });
  const link = useMutation({
    mutationFn: (device: number) => answer(api.POST('/api/v1/devices/{device}/link', { params: { path: { device } }, body: { entry: entry.id } })),
    onSuccess: onDone,
  });
  return (
    <Stack spacing={1}>
      <Typography variant="subtitle2">{words.severalDevicesCouldBeMeant}</Typography>
      {link.error && <Alert severity="error">{link.error.message}</Alert>}
      {devices.map(({ data: d }) =>
        d ? (
          <Stack key={d.id} direction="row" spacing={1} sx={{ alignItems: 'center', justifyContent: 'space-between' }}>
            <Link component={RouterLink} to={`/sites/${site}/devices/${d.id}`}>
              {visible(d.name || d.kind)} <DeviceText>{[d.addresses[0], d.mac].filter(Boolean).join(', ')}</DeviceText>
            </Link>
            <Button size="small" loading={link.isPending} onClick={() => link.mutate(d.id)}>
              {words.itIsThisOne}
            </Button>
          </Stack>
        ) : null,
      )}
    </Stack>
  );
}

/** Takes an entry out of the register, once that was asked for twice. */
function Removal({ entry, onDone }: { entry: Entry; onDone: () => Promise<void> }) {
  const [sure, setSure] = useState(false);
  const remove = useMutation({ mutationFn: () => answer(api.DELETE('/api/v1/register/{entry}', { params: { path: { entry: entry.id } } })), onSuccess: onDone });
  if (!sure) {
    return (
      <Button color="error" onClick={() => setSure(true)} sx={{ alignSelf: 'flex-start' }}>
        {words.deleteFromTheRegister}
      </Button>
    );
  }
  return (
    <Alert
      severity="warning"
      action={
        <Button color="error" loading={remove.isPending} onClick={() => remove.mutate()}>
          {words.deleteTheEntry}
        </Button>
      }
    >
      {words.theEntryIsDeleted}
      {remove.error && ` ${remove.error.message}`}
    </Alert>
  );
}
