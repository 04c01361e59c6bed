import { Alert, Box, Button, Link, Stack, Tooltip } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Sweep } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { aboutSweeps, keys, useOutdated } from '../app/keys';
import { Within } from '../app/Loaded';
import { Empty, Failure, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useMay, useSiteId, useSites } from '../app/queries';
import { moment, visible } from '../lib/format';
import { StartSweepButton } from './StartSweep';
import { StateTag } from './state';
import { words } from './words';

/** The site's sweeps, the newest first. */
export function SweepsPage() {
  const id = useSiteId();
  const site = useSites().data?.find((s) => s.id === id);
  const sweeps = useQuery({
    queryKey: keys.sweeps(id),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/sweeps', { params: { path: { site: id }, query: { limit: 200 } } }))).items,
    refetchInterval: 5000,
  });
  const may = useMay('sweep');
  const outdated = useOutdated();
  const reevaluate = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/sites/{site}/reevaluate', { params: { path: { site: id } } })),
    onSuccess: async () => {
      await outdated(...aboutSweeps);
    },
  });
  return (
    <Page
      title={words.sweeps}
      actions={
        <Stack direction="row" spacing={1}>
          {may && (
            <Tooltip describeChild title={words.reEvaluateAllStoredEvidence}>
              <Button startIcon={<Icon of={icons.replay} />} loading={reevaluate.isPending} onClick={() => reevaluate.mutate()}>
                {words.reEvaluate}
              </Button>
            </Tooltip>
          )}
          {site && <StartSweepButton site={site} />}
        </Stack>
      }
    >
      <Failure failure={reevaluate.error} />
      {reevaluate.isSuccess && <Alert severity="success">{words.allStoredEvidenceWasReEvaluated}</Alert>}
      <Within query={sweeps}>
        {(list) =>
          list.length > 0 ? (
            <SweepTable site={id} sweeps={list} />
          ) : (
            <Panel>
              <Empty title={words.noSweepYet}>{words.startOneToSeeWhat}</Empty>
            </Panel>
          )
        }
      </Within>
    </Page>
  );
}

function SweepTable({ site, sweeps }: { site: number; sweeps: Sweep[] }) {
  return (
    <Panel>
      <SmallTable
        label={words.sweeps}
        rows={sweeps}
        rowKey={(s) => s.id}
        columns={[
          {
            head: words.sweep,
            cell: (s) => (
              <>
                <Link component={RouterLink} to={`/sites/${site}/sweeps/${s.id}`}>
                  {s.id}
                </Link>
                {s.name && <Box sx={{ color: 'text.secondary' }}>{visible(s.name)}</Box>}
              </>
            ),
          },
          { head: words.state, cell: (s) => <StateTag state={s.state} /> },
          { head: words.began, line: true, cell: (s) => moment(s.began) },
          { head: words.from, cell: (s) => s.vantage },
          {
            head: words.ranges,
            cell: (s) => (
              <>
                {s.ranges}
                {s.exclusions ? words.without(s.exclusions) : ''}
              </>
            ),
          },
          { head: words.pace, cell: (s) => s.pace },
          { head: words.by, cell: (s) => s.startedBy },
          {
            head: words.answered,
            right: true,
            line: true,
            cell: (s) => (
              <>
                {s.answered} {words.of} {s.addresses}
              </>
            ),
          },
          { head: words.appeared, right: true, cell: (s) => <Count site={site} sweep={s.id} kind="appeared" count={s.appeared} /> },
          { head: words.vanished, right: true, cell: (s) => <Count site={site} sweep={s.id} kind="vanished" count={s.vanished} /> },
          { head: words.movedToo, right: true, cell: (s) => <Count site={site} sweep={s.id} kind="moved" count={s.moved} /> },
        ]}
      />
    </Panel>
  );
}

/** A number of changes that leads to them. */
function Count({ site, sweep, kind, count }: { site: number; sweep: number; kind: string; count: number }) {
  if (count === 0) return <>0</>;
  return (
    <Link component={RouterLink} to={`/sites/${site}/changes?sweep=${sweep}&kind=${kind}`} aria-label={words.inSweep(count, kind, sweep)}>
      {count}
    </Link>
  );
}
