import { Button, Link, MenuItem, Paper, Stack, Table, TableBody, TableCell, TableContainer, TableHead, TableRow, TextField } from '@mui/material';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { useAddress } from '../app/address';
import { DeviceText, Empty, Failure, Loading, Page, Panel } from '../app/parts';
import { useSiteId } from '../app/queries';
import { moment, visible } from '../lib/format';

type Change = Schema['Change'];
type Kind = Change['kind'];

const kinds: Kind[] = ['appeared', 'vanished', 'moved', 'changed'];
const attributeNames: Record<string, string> = { os: 'system', mac: 'MAC address' };

/** Says in words what has changed. */
function what(change: Change) {
  if (!change.attribute) return change.kind;
  if (change.attribute === 'port') return change.before ? 'port closed' : 'port opened';
  return attributeNames[change.attribute] ?? change.attribute;
}

/** What sweeps have found changed, the newest first. The address holds the filter, so that it can be sent to a colleague. */
export function ChangesPage() {
  const site = useSiteId();
  const [params, choose] = useAddress();
  const sweep = Number(params.get('sweep')) || undefined;
  const device = Number(params.get('device')) || undefined;
  const kind = kinds.find((k) => k === params.get('kind'));
  // With a sweep to compare it with, what the two differ in, whatever lies between them.
  const against = sweep ? Number(params.get('against')) || undefined : undefined;
  const changes = useInfiniteQuery({
    queryKey: ['changes', site, sweep, device, kind, against],
    queryFn: ({ pageParam }) =>
      against && sweep
        ? answer(api.GET('/api/v1/sweeps/{sweep}/comparison/{other}', { params: { path: { sweep: against, other: sweep }, query: { kind: kind && [kind], cursor: pageParam, limit: 100 } } }))
        : answer(api.GET('/api/v1/sites/{site}/changes', { params: { path: { site }, query: { sweep, device, kind: kind && [kind], cursor: pageParam, limit: 100 } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page?.next,
  });
  const set = (name: string, value: string) => choose(name === 'sweep' ? { sweep: value, against: undefined } : { [name]: value });
  const list = changes.data?.pages.flatMap((page) => page?.items ?? []) ?? [];
  return (
    <Page
      title="Changes"
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          {sweep && <Against site={site} sweep={sweep} against={against} onAgainst={(value) => set('against', value)} />}
          {sweep && (
            <Button variant="outlined" onClick={() => set('sweep', '')}>
              Sweep {sweep} only: show all
            </Button>
          )}
          {device && (
            <Button variant="outlined" onClick={() => set('device', '')}>
              One device only: show all
            </Button>
          )}
          <TextField select size="small" label="Kind of change" value={kind ?? ''} onChange={(e) => set('kind', e.target.value)} sx={{ minWidth: 170 }} slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}>
            <MenuItem value="">all</MenuItem>
            {kinds.map((k) => (
              <MenuItem key={k} value={k}>
                {k}
              </MenuItem>
            ))}
          </TextField>
        </Stack>
      }
    >
      <Failure failure={changes.error} />
      {changes.isPending && <Loading />}
      {changes.isSuccess && list.length === 0 && (
        <Panel>
          <Empty title="No change is known">Changes are what a sweep finds different from the one before.</Empty>
        </Panel>
      )}
      {list.length > 0 && <ChangeTable site={site} changes={list} />}
      {changes.hasNextPage && (
        <Button variant="outlined" loading={changes.isFetchingNextPage} onClick={() => void changes.fetchNextPage()} sx={{ mt: 2 }}>
          Show more
        </Button>
      )}
    </Page>
  );
}

/** Chooses the sweep that one is compared with. */
function Against({ site, sweep, against, onAgainst }: { site: number; sweep: number; against: number | undefined; onAgainst: (value: string) => void }) {
  const sweeps = useQuery({
    queryKey: ['sweeps', site],
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/sweeps', { params: { path: { site }, query: { limit: 200 } } })))?.items ?? [],
  });
  const others = (sweeps.data ?? []).filter((s) => s.id !== sweep && s.state !== 'running' && !s.thinned);
  return (
    <TextField select size="small" label="Compared with" value={against && others.some((s) => s.id === against) ? String(against) : ''} onChange={(e) => onAgainst(e.target.value)} sx={{ minWidth: 210 }}
      slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}>
      <MenuItem value="">what was known before it</MenuItem>
      {others.map((s) => (
        <MenuItem key={s.id} value={String(s.id)}>
          {visible([`Sweep ${s.id}`, s.name, moment(s.began)].filter(Boolean).join(', '))}
        </MenuItem>
      ))}
    </TextField>
  );
}

function ChangeTable({ site, changes }: { site: number; changes: Change[] }) {
  return (
    <TableContainer component={Paper} variant="outlined" tabIndex={0} role="group" aria-label="Changes, to be scrolled">
      <Table size="small" aria-label="Changes">
        <TableHead>
          <TableRow>
            <TableCell>Device</TableCell>
            <TableCell>Change</TableCell>
            <TableCell>Before</TableCell>
            <TableCell>After</TableCell>
            <TableCell>Sweep</TableCell>
            <TableCell>Began</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {changes.map((c) => (
            <TableRow key={c.id} hover>
              <TableCell>
                <Link component={RouterLink} to={`/sites/${site}/devices/${c.device}`}>
                  {visible(c.name || c.address || `device ${c.device}`)}
                </Link>
              </TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{what(c)}</TableCell>
              <TableCell>
                <DeviceText>{c.before}</DeviceText>
              </TableCell>
              <TableCell>
                <DeviceText>{c.after}</DeviceText>
              </TableCell>
              <TableCell>
                <Link component={RouterLink} to={`/sites/${site}/sweeps/${c.sweep}`}>
                  {c.sweep}
                </Link>
              </TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(c.began)}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </TableContainer>
  );
}
