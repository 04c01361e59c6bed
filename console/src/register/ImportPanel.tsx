import { Alert, Box, Button, Checkbox, Dialog, DialogActions, DialogContent, DialogTitle, FormControlLabel, Stack, Typography } from '@mui/material';
import { useMutation } from '@tanstack/react-query';
import { useRef, useState, type DragEvent, type ReactNode } from 'react';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { aboutDevices, useOutdated } from '../app/keys';
import { Failure, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { count, number, visible } from '../lib/format';
import { words } from './words';

type Imported = Schema['Imported'];

/** A file of a register, and how it is to be taken. */
interface Choice {
  file: File;
  replace: boolean;
  partial: boolean;
}

async function send(site: number, { file, replace, partial }: Choice, preview: boolean): Promise<Imported> {
  const content = await file.arrayBuffer();
  return answer(
    api.POST('/api/v1/sites/{site}/register', {
      params: { path: { site }, query: { replace, partial, preview } },
      body: content as unknown as string,
      bodySerializer: (body) => body,
      headers: { 'Content-Type': 'application/octet-stream' },
    }),
  );
}

/** Imports a register from a file: first it says what the file would change, and then does it if somebody wants so. */
export function ImportPanel({ site }: { site: number }) {
  const [replace, setReplace] = useState(false);
  const [partial, setPartial] = useState(false);
  const [shown, setShown] = useState<Choice>();
  const outdated = useOutdated();
  const preview = useMutation({ mutationFn: (choice: Choice) => send(site, choice, true), onSuccess: (_, choice) => setShown(choice) });
  const load = useMutation({
    mutationFn: (choice: Choice) => send(site, choice, false),
    onSuccess: async () => {
      setShown(undefined);
      await outdated(...aboutDevices);
    },
  });
  const take = (files: FileList | null) => {
    const file = files?.[0];
    load.reset();
    if (file) preview.mutate({ file, replace, partial });
  };
  return (
    <Panel title={words.importFromCsvOrA}>
      <Stack spacing={1.5}>
        <DropFrame busy={preview.isPending} onFiles={take}>
          <Stack>
            <FormControlLabel control={<Checkbox size="small" checked={replace} onChange={(e) => setReplace(e.target.checked)} />} label={words.deleteTheOldRegisterFirst} />
            <FormControlLabel control={<Checkbox size="small" checked={partial} onChange={(e) => setPartial(e.target.checked)} />} label={words.leaveOutFaultyLines} />
          </Stack>
        </DropFrame>
        <Failure failure={preview.error} />
        {load.data && <Outcome name={load.variables.file.name} done={load.data} />}
      </Stack>
      {shown && preview.data && (
        <PreviewDialog choice={shown} would={preview.data} busy={load.isPending} failure={load.error} onImport={() => load.mutate(shown)} onClose={() => setShown(undefined)} />
      )}
    </Panel>
  );
}

function DropFrame({ busy, onFiles, children }: { busy: boolean; onFiles: (files: FileList | null) => void; children: ReactNode }) {
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const drop = (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    onFiles(e.dataTransfer.files);
  };
  return (
    <Box
      onDragOver={(e) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
      sx={{ border: '2px dashed', borderColor: over ? 'primary.main' : 'divider', borderRadius: 2, p: 2, display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}
    >
      <Button variant="contained" startIcon={<Icon of={icons.uploadFile} />} loading={busy} onClick={() => input.current?.click()}>
        {words.chooseAFile}
      </Button>
      <input
        ref={input}
        type="file"
        tabIndex={-1}
        accept=".csv,.txt,.tsv,.xlsx,text/csv"
        aria-label={words.fileOfTheRegister}
        style={{ position: 'absolute', width: 1, height: 1, opacity: 0 }}
        onChange={(e) => {
          onFiles(e.target.files);
          e.target.value = '';
        }}
      />
      <Typography color="textSecondary" sx={{ flex: '1 1 300px' }}>
        {words.orDropItHereThe}
      </Typography>
      {children}
    </Box>
  );
}

/** What an import would change, entry by entry; nothing has been changed yet. */
function PreviewDialog({
  choice,
  would,
  busy,
  failure,
  onImport,
  onClose,
}: {
  choice: Choice;
  would: Imported;
  busy: boolean;
  failure: unknown;
  onImport: () => void;
  onClose: () => void;
}) {
  const same = would.updated - would.changed;
  const rows = would.changes.flatMap((c) => (c.fields.length > 0 ? c.fields.map((f) => ({ ...c, ...f })) : [{ ...c, field: '', was: '', becomes: '' }]));
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="md">
      <DialogTitle>
        {words.what} {visible(choice.file.name)} {words.wouldChange}
      </DialogTitle>
      <DialogContent>
        <Stack spacing={1.5}>
          <Typography>
            {[count(would.added, 'device') + ' added', words.changed(number(would.changed)), words.asTheyAre(number(same)), words.deleted(number(would.deleted))].join(', ')}
            {words.afterwards} {number(would.counts.managed)} {words.areManaged} {number(would.counts.unmanaged)} {words.unmanaged} {number(would.counts.missing)} {words.missing}
          </Typography>
          {would.deleted > 0 && (
            <Alert severity="warning">
              {count(would.deleted, 'entry', 'entries')} {words.ofTheRegisterThatThe}
            </Alert>
          )}
          <LeftOut done={would} />
          {rows.length > 0 && (
            <SmallTable
              label={words.whatWouldChange}
              rows={rows}
              rowKey={(r) => `${r.does} ${r.entry} ${r.field}`}
              columns={[
                { head: words.entry, cell: (r) => visible(r.entry) },
                { head: words.does, cell: (r) => r.does },
                { head: words.column, cell: (r) => visible(r.field) },
                { head: words.was, cell: (r) => visible(r.was) },
                { head: words.becomes, cell: (r) => visible(r.becomes) },
              ]}
            />
          )}
          <Failure failure={failure} />
        </Stack>
      </DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        <Button onClick={onClose}>{words.cancel}</Button>
        <Button variant="contained" color={would.deleted > 0 ? 'error' : 'primary'} loading={busy} onClick={onImport}>
          {words.importIt}
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function Outcome({ name, done }: { name: string; done: Imported }) {
  return (
    <>
      <Alert severity="success">
        {visible(name)}: {count(done.added, 'device')} {words.added} {number(done.updated)} {words.updated} {number(done.deleted)} {words.deletedOfWhatIsKnown}{' '}
        {number(done.counts.managed)} {words.managed} {number(done.counts.unmanaged)} {words.unmanaged} {number(done.counts.missing)} {words.missing}
      </Alert>
      <LeftOut done={done} />
    </>
  );
}

/** The lines of a file that are left out, and why. */
function LeftOut({ done }: { done: Imported }) {
  if (done.faults.length === 0) return null;
  return (
    <Alert severity="warning">
      {count(done.leftOut, 'line')} {words.leftOut}
      <Box component="ul" sx={{ m: 0, mt: 1, pl: 2.5 }}>
        {done.faults.map((f, i) => (
          <li key={i}>
            <strong>{[f.place, f.field && `(${visible(f.field)})`].filter(Boolean).join(' ')}</strong>: {visible(f.why)}
          </li>
        ))}
      </Box>
    </Alert>
  );
}
