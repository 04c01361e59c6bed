import RereadIcon from '@mui/icons-material/ReplayOutlined';
import { Alert, Box, Button, Link, Paper, Stack, Table, TableBody, TableCell, TableContainer, TableHead, TableRow, Tooltip } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Sweep } from '../api/client';
import { Empty, Failure, Loading, Page, Panel } from '../app/parts';
import { useMay, useSiteId, useSites } from '../app/queries';
import { moment, visible } from '../lib/format';
import { StartSweepButton } from './StartSweep';
import { StateChip } from './state';

/** The site's sweeps, the newest first. */
export function SweepsPage() {
  const id = useSiteId();
  const site = useSites().data?.find((s) => s.id === id);
  const sweeps = useQuery({
    queryKey: ['sweeps', id],
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/sweeps', { params: { path: { site: id }, query: { limit: 200 } } })))?.items ?? [],
    refetchInterval: 5000,
  });
  const may = useMay('sweep');
  const queries = useQueryClient();
  const reread = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/sites/{site}/reread', { params: { path: { site: id } } })),
    onSuccess: async () => {
      for (const key of ['sweeps', 'overview', 'devices', 'device', 'history', 'changes', 'decisions']) await queries.invalidateQueries({ queryKey: [key] });
    },
  });
  return (
    <Page
      title="Sweeps"
      actions={
        <Stack direction="row" spacing={1}>
          {may && (
            <Tooltip describeChild title="Read all stored evidence again under the rules of today; no packet is sent">
              <Button startIcon={<RereadIcon />} loading={reread.isPending} onClick={() => reread.mutate()}>
                Read again
              </Button>
            </Tooltip>
          )}
          {site && <StartSweepButton site={site} />}
        </Stack>
      }
    >
      <Failure failure={sweeps.error ?? reread.error} />
      {reread.isSuccess && <Alert severity="success">All stored evidence was read again.</Alert>}
      {sweeps.isPending && <Loading />}
      {sweeps.data?.length === 0 && (
        <Panel>
          <Empty title="No sweep yet">Start one to see what answers.</Empty>
        </Panel>
      )}
      {sweeps.data && sweeps.data.length > 0 && <SweepTable site={id} sweeps={sweeps.data} />}
    </Page>
  );
}

function SweepTable({ site, sweeps }: { site: number; sweeps: Sweep[] }) {
  return (
    <TableContainer component={Paper} variant="outlined">
      <Table size="small" aria-label="Sweeps" sx={{ '& td, & th': { px: 1.25 } }}>
        <TableHead>
          <TableRow>
            <TableCell>Sweep</TableCell>
            <TableCell>State</TableCell>
            <TableCell>Began</TableCell>
            <TableCell>From</TableCell>
            <TableCell>Ranges</TableCell>
            <TableCell>Pace</TableCell>
            <TableCell>By</TableCell>
            <TableCell align="right">Answered</TableCell>
            <TableCell align="right">Appeared</TableCell>
            <TableCell align="right">Vanished</TableCell>
            <TableCell align="right">Moved</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {sweeps.map((s) => (
            <TableRow key={s.id} hover>
              <TableCell>
                <Link component={RouterLink} to={`/sites/${site}/sweeps/${s.id}`}>
                  {s.id}
                </Link>
                {s.name && <Box sx={{ color: 'text.secondary' }}>{visible(s.name)}</Box>}
              </TableCell>
              <TableCell>
                <StateChip state={s.state} />
              </TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(s.began)}</TableCell>
              <TableCell>{s.vantage}</TableCell>
              <TableCell>
                {s.ranges}
                {s.exclusions ? ` without ${s.exclusions}` : ''}
              </TableCell>
              <TableCell>{s.pace}</TableCell>
              <TableCell>{s.startedBy}</TableCell>
              <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
                {s.answered} of {s.addresses}
              </TableCell>
              <TableCell align="right">
                <Count site={site} sweep={s.id} kind="appeared" count={s.appeared} />
              </TableCell>
              <TableCell align="right">
                <Count site={site} sweep={s.id} kind="vanished" count={s.vanished} />
              </TableCell>
              <TableCell align="right">
                <Count site={site} sweep={s.id} kind="moved" count={s.moved} />
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </TableContainer>
  );
}

/** A number of changes that leads to them. */
function Count({ site, sweep, kind, count }: { site: number; sweep: number; kind: string; count: number }) {
  if (count === 0) return <>0</>;
  return (
    <Link component={RouterLink} to={`/sites/${site}/changes?sweep=${sweep}&kind=${kind}`} aria-label={`${count} ${kind} in sweep ${sweep}`}>
      {count}
    </Link>
  );
}
