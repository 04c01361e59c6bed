import { Button, Link, MenuItem, Stack, TextField } from '@mui/material';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { keys } from '../app/keys';
import { useAddress } from '../app/address';
import { Within } from '../app/Loaded';
import { DeviceText, Empty, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useSiteId } from '../app/queries';
import { moment, visible } from '../lib/format';
import { words } from './words';

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
    queryKey: keys.changes(site, { sweep, device, kind, against }),
    queryFn: ({ pageParam }) =>
      against && sweep
        ? answer(
            api.GET('/api/v1/sweeps/{sweep}/comparison/{other}', {
              params: { path: { sweep: against, other: sweep }, query: { kind: kind && [kind], cursor: pageParam, limit: 100 } },
            }),
          )
        : answer(api.GET('/api/v1/sites/{site}/changes', { params: { path: { site }, query: { sweep, device, kind: kind && [kind], cursor: pageParam, limit: 100 } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
  });
  const set = (name: string, value: string) => choose(name === 'sweep' ? { sweep: value, against: undefined } : { [name]: value });
  const list = changes.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <Page
      title={words.changes}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          {sweep && <Against site={site} sweep={sweep} against={against} onAgainst={(value) => set('against', value)} />}
          {sweep && (
            <Button variant="outlined" onClick={() => set('sweep', '')}>
              {words.sweep} {sweep} {words.onlyShowAll}
            </Button>
          )}
          {device && (
            <Button variant="outlined" onClick={() => set('device', '')}>
              {words.oneDeviceOnlyShowAll}
            </Button>
          )}
          <TextField
            select
            size="small"
            label={words.kindOfChange}
            value={kind ?? ''}
            onChange={(e) => set('kind', e.target.value)}
            sx={{ minWidth: 170 }}
            slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}
          >
            <MenuItem value="">{words.all}</MenuItem>
            {kinds.map((k) => (
              <MenuItem key={k} value={k}>
                {k}
              </MenuItem>
            ))}
          </TextField>
        </Stack>
      }
    >
      <Within query={changes}>
        {() =>
          list.length > 0 ? (
            <ChangeTable site={site} changes={list} />
          ) : (
            <Panel>
              <Empty title={words.noChangeIsKnown}>{words.changesAreWhatASweep}</Empty>
            </Panel>
          )
        }
      </Within>
      {changes.hasNextPage && (
        <Button variant="outlined" loading={changes.isFetchingNextPage} onClick={() => void changes.fetchNextPage()} sx={{ mt: 2 }}>
          {words.showMore}
        </Button>
      )}
    </Page>
  );
}

/** Chooses the sweep that one is compared with. */
function Against({ site, sweep, against, onAgainst }: { site: number; sweep: number; against: number | undefined; onAgainst: (value: string) => void }) {
  const sweeps = useQuery({
    queryKey: keys.sweeps(site),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/sweeps', { params: { path: { site }, query: { limit: 200 } } }))).items,
  });
  const others = (sweeps.data ?? []).filter((s) => s.id !== sweep && s.state !== 'running' && !s.thinned);
  return (
    <TextField
      select
      size="small"
      label={words.comparedWith}
      value={against && others.some((s) => s.id === against) ? String(against) : ''}
      onChange={(e) => onAgainst(e.target.value)}
      sx={{ minWidth: 210 }}
      slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}
    >
      <MenuItem value="">{words.whatWasKnownBeforeIt}</MenuItem>
      {others.map((s) => (
        <MenuItem key={s.id} value={String(s.id)}>
          {visible([words.sweepToo(s.id), s.name, moment(s.began)].filter(Boolean).join(', '))}
        </MenuItem>
      ))}
    </TextField>
  );
}

function ChangeTable({ site, changes }: { site: number; changes: Change[] }) {
  return (
    <Panel>
      <SmallTable
        label={words.changes}
        rows={changes}
        rowKey={(c) => c.id}
        columns={[
          {
            head: words.device,
            cell: (c) => (
              <Link component={RouterLink} to={`/sites/${site}/devices/${c.device}`}>
                {visible(c.name || c.address || words.deviceToo(c.device))}
              </Link>
            ),
          },
          { head: words.change, line: true, cell: (c) => what(c) },
          { head: words.before, cell: (c) => <DeviceText>{c.before}</DeviceText> },
          { head: words.after, cell: (c) => <DeviceText>{c.after}</DeviceText> },
          {
            head: words.sweep,
            cell: (c) => (
              <Link component={RouterLink} to={`/sites/${site}/sweeps/${c.sweep}`}>
                {c.sweep}
              </Link>
            ),
          },
          { head: words.began, line: true, cell: (c) => moment(c.began) },
        ]}
      />
    </Panel>
  );
}
