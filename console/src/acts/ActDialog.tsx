import { Alert, Box, Button, MenuItem, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { FormDialog } from '../app/Dialogs';
import { aboutDevices, keys, useOutdated } from '../app/keys';
import { Failure } from '../app/parts';
import { useSiteId } from '../app/queries';
import { SmallTable } from '../app/SmallTable';
import { count, moment, visible } from '../lib/format';
import { words } from './words';

type Act = Schema['Act'];
type NewAct = Schema['NewAct'];
/** What an act is about. */
export type Meant = Pick<NewAct, 'filter' | 'devices' | 'findings' | 'lines'>;

/** Does something to many devices at once: what it would do is shown first, and what it has done can be undone. */
export function ActDialog({ title, kinds, meant, onClose }: { title: string; kinds: NewAct['kind'][]; meant: Meant; onClose: () => void }) {
  const site = useSiteId();
  const [kind, setKind] = useState(kinds[0] ?? 'note');
  const [text, setText] = useState('');
  const [until, setUntil] = useState(() => inMonths(3));
  const outdated = useOutdated();
  const send = (more: Partial<NewAct>) =>
    answer(
      api.POST('/api/v1/sites/{site}/acts', {
        params: { path: { site } },
        body: { kind, text: text || undefined, until: kind === 'accept' ? new Date(`${until}T00:00:00`).toISOString() : undefined, ...meant, ...more },
      }),
    );
  const preview = useMutation({ mutationFn: () => send({ preview: true }) });
  const perform = useMutation({ mutationFn: () => send({ tag: preview.data?.tag }), onSuccess: () => outdated(...aboutDevices) });
  const many = (n: number) => count(n, ofFindings(kind) ? 'finding' : 'device');
  const choose = (next: NewAct['kind']) => {
    setKind(next);
    preview.reset();
  };
  if (perform.data) return <DoneDialog act={perform.data} onClose={onClose} />;
  const shown = preview.data;
  return (
    <FormDialog
      title={title}
      does={shown && shown.count > 0 ? words.carryOut(many(shown.count)) : words.preview}
      failure={preview.error ?? perform.error}
      busy={preview.isPending || perform.isPending}
      onSubmit={() => (shown && shown.count > 0 ? perform.mutate() : preview.mutate())}
      onClose={onClose}
    >
      {kinds.length > 1 && (
        <TextField select size="small" label={words.whatToDo} value={kind} onChange={(e) => choose(kinds.find((k) => k === e.target.value) ?? kind)}>
          {kinds.map((k) => (
            <MenuItem key={k} value={k}>
              {words.kinds[k]}
            </MenuItem>
          ))}
        </TextField>
      )}
      {words.texts[kind] && (
        <TextField
          size="small"
          multiline={kind === 'note' || kind === 'accept'}
          label={words.texts[kind]}
          value={text}
          onChange={(e) => {
            setText(e.target.value);
            preview.reset();
          }}
        />
      )}
      {kind === 'accept' && (
        <TextField
          size="small"
          label={words.until}
          type="date"
          helperText={words.fromThenOn}
          value={until}
          required
          onChange={(e) => {
            setUntil(e.target.value);
            preview.reset();
          }}
          slotProps={{ inputLabel: { shrink: true } }}
        />
      )}
      {shown && <Steps act={shown} many={many} />}
    </FormDialog>
  );
}

/** Whether an act is done to findings, not to devices. */
const ofFindings = (kind: string) => kind === 'accept' || kind === 'confirm';

/** The day in so many months, as a field for days takes it. */
function inMonths(months: number) {
  const at = new Date();
  at.setMonth(at.getMonth() + months);
  return `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, '0')}-${String(at.getDate()).padStart(2, '0')}`;
}

function Steps({ act, many }: { act: Act; many: (n: number) => string }) {
  const most = 8;
  return (
    <Box>
      {act.count === 0 ? (
        <Typography>{words.nothingToDo}</Typography>
      ) : (
        <SmallTable
          label={words.preview}
          rows={act.steps.slice(0, most)}
          rowKey={(s) => `${s.device ?? 0} ${s.finding ?? 0} ${s.field}`}
          columns={[
            { head: words.device, cell: (s) => visible(s.name) },
            { head: words.what, cell: (s) => visible(s.field) },
            { head: words.was, cell: (s) => visible(s.was ?? '') },
            { head: words.becomes, cell: (s) => visible(s.becomes ?? '') },
          ]}
        />
      )}
      {act.count > most && <Typography variant="body2">{words.andMore(many(act.count - most))}</Typography>}
      {act.leftOut > 0 && (
        <Typography variant="body2" color="text.secondary">
          {words.leftAsTheyAre(many(act.leftOut))} {visible(act.left[0]?.name ?? '')}: {visible(act.left[0]?.becomes ?? '')}
        </Typography>
      )}
    </Box>
  );
}

function DoneDialog({ act, onClose }: { act: Act; onClose: () => void }) {
  return (
    <FormDialog title={words.kinds[act.kind] ?? act.kind} does={words.close} failure={undefined} busy={false} onSubmit={onClose} onClose={onClose}>
      <Stack direction="row" spacing={2} sx={{ alignItems: 'center' }}>
        <Typography role="status">{words.done(count(act.count, ofFindings(act.kind) ? 'finding' : 'device'))}</Typography>
        <UndoButton act={act} />
      </Stack>
    </FormDialog>
  );
}

/** Takes back what an act has done. */
export function UndoButton({ act }: { act: Act }) {
  const outdated = useOutdated();
  const undo = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/acts/{act}/undo', { params: { path: { act: act.id ?? 0 } } })),
    onSuccess: () => outdated(...aboutDevices),
  });
  if (undo.data) return <Alert severity="success">{words.undone(count(undo.data.back, 'change'), undo.data.left)}</Alert>;
  return (
    <>
      <Button variant="outlined" size="small" loading={undo.isPending} onClick={() => undo.mutate()}>
        {words.undo}
      </Button>
      <Failure failure={undo.error} />
    </>
  );
}

/** What was done to many devices at once, and how to take it back. */
export function ActsDialog({ onClose }: { onClose: () => void }) {
  const site = useSiteId();
  const acts = useQuery({
    queryKey: keys.acts(site),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/acts', { params: { path: { site }, query: { limit: 20 } } }))).items,
  });
  return (
    <FormDialog title={words.acts} does={words.close} failure={acts.error} busy={acts.isPending} onSubmit={onClose} onClose={onClose}>
      {acts.data?.length === 0 && <Typography>{words.noActs}</Typography>}
      {acts.data?.map((a) => (
        <Stack key={a.id} direction="row" spacing={2} sx={{ alignItems: 'center', justifyContent: 'space-between' }}>
          <span>
            {words.kinds[a.kind]} ({a.count}) {a.text && `“${visible(a.text)}”`}
            <Typography variant="body2" color="text.secondary">
              {moment(a.at)}, {visible(a.by)}
            </Typography>
          </span>
          {a.undoneBy ? <Typography variant="body2">{words.undoneBy(visible(a.undoneBy))}</Typography> : <UndoButton act={a} />}
        </Stack>
      ))}
    </FormDialog>
  );
}
