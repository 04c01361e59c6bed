import DownloadIcon from '@mui/icons-material/DownloadOutlined';
import { Button, Link, MenuItem, Paper, Stack, Table, TableBody, TableCell, TableContainer, TableHead, TableRow, TextField, ToggleButton, ToggleButtonGroup, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { useAddress } from '../app/address';
import { Empty, Failure, Loading, Page, Panel } from '../app/parts';
import { useSiteId } from '../app/queries';
import { kindLabel } from '../devices/kinds';
import { count, moment, visible } from '../lib/format';
import { SpreadPlot } from './SpreadPlot';
import { groups, milliseconds } from './spread';

/** How many devices the plot and the table show at most. */
const manyDevices = 2000;
/** How many devices the table shows before it is asked for more. */
const fewRows = 25;

/** How long devices take over their answers in one protocol, like devices side by side. The address holds what is chosen. */
export function ResponseTimesPage() {
  const site = useSiteId();
  const [params, set] = useAddress();
  const protocol = params.get('protocol') ?? undefined;
  const by = params.get('by') === 'model' ? 'model' : 'kind';
  const order = params.get('order') === 'fastest' ? 'fastest' : 'slowest';
  const sweep = Number(params.get('sweep')) || undefined;
  const only = params.get('only') ?? undefined;
  const filter = { protocol, sweep, order, kind: only && by === 'kind' ? [only] : undefined, model: only && by === 'model' ? [only] : undefined } as const;
  const times = useQuery({
    queryKey: ['response-times', site, filter],
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/response-times', { params: { path: { site }, query: { ...filter, limit: manyDevices } } })),
  });
  const t = times.data;
  return (
    <Page
      title="Response times"
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          {t && t.protocols.length > 0 && (
            <TextField select size="small" label="Protocol" value={t.protocol ?? ''} onChange={(e) => set({ protocol: e.target.value })} sx={{ minWidth: 180 }}>
              {t.protocols.map((p) => (
                <MenuItem key={p.protocol} value={p.protocol}>
                  {visible(p.protocol)} ({p.devices})
                </MenuItem>
              ))}
            </TextField>
          )}
          <ToggleButtonGroup exclusive size="small" value={by} onChange={(_, value: string | null) => value && set({ by: value, only: undefined })} aria-label="Compare devices">
            <ToggleButton value="kind">by kind</ToggleButton>
            <ToggleButton value="model">by model</ToggleButton>
          </ToggleButtonGroup>
          <ToggleButtonGroup exclusive size="small" value={order} onChange={(_, value: string | null) => value && set({ order: value })} aria-label="Order of the table">
            <ToggleButton value="slowest">slowest first</ToggleButton>
            <ToggleButton value="fastest">fastest first</ToggleButton>
          </ToggleButtonGroup>
          {only && (
            <Button variant="outlined" onClick={() => set({ only: undefined })}>
              {visible(by === 'kind' ? kindLabel(only) : only)} only: show all
            </Button>
          )}
          <Button startIcon={<DownloadIcon />} href={csvAddress(site, filter)} download="response-times.csv">
            CSV
          </Button>
        </Stack>
      }
    >
      <Failure failure={times.error} />
      {times.isPending && <Loading />}
      {t && t.devices.length === 0 && (
        <Panel>
          <Empty title="No answers have been timed">A sweep times what it asks devices by each protocol. Start one under Sweeps.</Empty>
        </Panel>
      )}
      {t && t.devices.length > 0 && (
        <>
          <Typography color="textSecondary">
            {count(t.total, 'device')} answered by {visible(t.protocol ?? '')} in{' '}
            <Link component={RouterLink} to={`/sites/${site}/sweeps/${t.sweep}`}>
              sweep {t.sweep}
            </Link>{' '}
            ({moment(t.began)}), seen from {visible(t.vantage || 'an unknown place')}. A time runs from when the question leaves to the beginning of the answer.
          </Typography>
          <Panel title={by === 'kind' ? 'By kind' : 'By model'}>
            <SpreadPlot site={site} groups={groups(t.devices, by)} />
          </Panel>
          <TimesTable site={site} times={t} by={by} rows={Number(params.get('rows')) || fewRows} onMore={() => set({ rows: String((Number(params.get('rows')) || fewRows) + 100) })} onOnly={(value) => set({ only: value })} />
        </>
      )}
    </Page>
  );
}

/** Where what is shown is to be had as CSV. */
function csvAddress(site: number, filter: { protocol?: string; sweep?: number; order: string; kind?: string[]; model?: string[] }) {
  const params = new URLSearchParams({ order: filter.order });
  if (filter.protocol) params.set('protocol', filter.protocol);
  if (filter.sweep) params.set('sweep', String(filter.sweep));
  for (const kind of filter.kind ?? []) params.append('kind', kind);
  for (const model of filter.model ?? []) params.append('model', model);
  return `/api/v1/sites/${site}/response-times.csv?${params.toString()}`;
}

interface TableProps {
  site: number;
  times: Schema['ResponseTimes'];
  by: 'kind' | 'model';
  rows: number;
  onMore: () => void;
  onOnly: (value: string) => void;
}

function TimesTable({ site, times, by, rows, onMore, onOnly }: TableProps) {
  return (
    <>
      <TableContainer component={Paper} variant="outlined" tabIndex={0} role="group" aria-label="Response times, to be scrolled">
        <Table size="small" aria-label="Response times">
          <TableHead>
            <TableRow>
              <TableCell>Device</TableCell>
              <TableCell>Address</TableCell>
              <TableCell>Kind</TableCell>
              <TableCell>Model</TableCell>
              <TableCell align="right">Median</TableCell>
              <TableCell align="right">95 % within</TableCell>
              <TableCell align="right">Longest</TableCell>
              <TableCell align="right">Answers</TableCell>
              <TableCell align="right">Lost</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {times.devices.slice(0, rows).map((d) => (
              <TableRow key={d.device} hover>
                <TableCell>
                  <Link component={RouterLink} to={`/sites/${site}/devices/${d.device}`}>
                    {visible(d.name || d.addr || `device ${d.device}`)}
                  </Link>
                </TableCell>
                <TableCell>{d.addr}</TableCell>
                <TableCell>{by === 'kind' ? <Only text={kindLabel(d.kind)} onClick={() => onOnly(d.kind)} /> : kindLabel(d.kind)}</TableCell>
                <TableCell>{by === 'model' && d.model ? <Only text={visible(d.model)} onClick={() => onOnly(d.model ?? '')} /> : visible(d.model ?? '')}</TableCell>
                <TableCell align="right">{milliseconds(d.median)}</TableCell>
                <TableCell align="right">{milliseconds(d.most)}</TableCell>
                <TableCell align="right">{milliseconds(d.worst)}</TableCell>
                <TableCell align="right">{d.answers}</TableCell>
                <TableCell align="right">{d.lost || ''}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </TableContainer>
      {times.devices.length > rows && (
        <Button variant="outlined" onClick={onMore} sx={{ alignSelf: 'flex-start' }}>
          Show more of {count(times.total, 'device')}
        </Button>
      )}
    </>
  );
}

/** A value that narrows the page to devices like this one. */
function Only({ text, onClick }: { text: string; onClick: () => void }) {
  return (
    <Link component="button" type="button" onClick={onClick} title={`Only ${text}`} sx={{ textAlign: 'left' }}>
      {text}
    </Link>
  );
}
