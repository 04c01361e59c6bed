import { Box, Table, TableBody, TableCell, TableHead, TableRow } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Device, type Schema } from '../api/client';
import { Panel, Scrolling } from '../app/parts';
import { milliseconds } from '../judging/spread';
import { moment, visible } from '../lib/format';

type Visit = Schema['VisitTimes'];

const manyVisits = 200;

/** How long the device took over its answers: the newest times by protocol and vantage, and how the medians went from sweep to sweep. */
export function DeviceTimes({ d }: { d: Device }) {
  const visits = useQuery({
    queryKey: ['response-times', 'of', d.id],
    queryFn: async () => (await answer(api.GET('/api/v1/devices/{device}/response-times', { params: { path: { device: d.id }, query: { limit: manyVisits } } })))?.items ?? [],
  });
  const series = new Map<string, Visit[]>();
  for (const v of visits.data ?? []) {
    const key = `${v.protocol} ${v.vantage ?? ''}`;
    series.set(key, [...(series.get(key) ?? []), v]);
  }
  if (series.size === 0) return null;
  const vantages = new Set((visits.data ?? []).map((v) => v.vantage));
  return (
    <Panel title="Response times">
      <Scrolling>
        <Table size="small" aria-label="Response times">
          <TableHead>
            <TableRow>
              <TableCell>Protocol</TableCell>
              {vantages.size > 1 && <TableCell>Seen from</TableCell>}
              <TableCell align="right">Median</TableCell>
              <TableCell align="right">95 % within</TableCell>
              <TableCell align="right">Lost</TableCell>
              <TableCell>Over time</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {[...series].sort(([a], [b]) => a.localeCompare(b)).map(([key, list]) => {
              const newest = list[0];
              if (!newest) return null;
              return (
                <TableRow key={key}>
                  <TableCell>{visible(newest.protocol)}</TableCell>
                  {vantages.size > 1 && <TableCell>{visible(newest.vantage ?? '')}</TableCell>}
                  <TableCell align="right">{milliseconds(newest.median)}</TableCell>
                  <TableCell align="right">{milliseconds(newest.most)}</TableCell>
                  <TableCell align="right">{newest.lost ? `${newest.lost} of ${newest.answers + newest.lost}` : ''}</TableCell>
                  <TableCell>
                    <Course visits={list} />
                  </TableCell>
                </TableRow>
              );
            })}
          </TableBody>
        </Table>
      </Scrolling>
    </Panel>
  );
}

/** How the medians went, from the oldest to the newest, on a scale from nothing to the longest. */
function Course({ visits }: { visits: Visit[] }) {
  if (visits.length < 2) return null;
  const list = [...visits].reverse();
  const most = Math.max(...list.map((v) => v.median));
  const points = list.map((v, i) => ({ v, x: 3 + (84 * i) / (list.length - 1), y: 19 - (16 * v.median) / (most || 1) }));
  const says = list.map((v) => `${moment(v.began)}: ${milliseconds(v.median)}`).join(', ');
  return (
    <Box component="svg" viewBox="0 0 90 22" role="img" aria-label={`Medians: ${says}`} sx={{ width: 90, height: 22, display: 'block' }}>
      <title>{says}</title>
      <polyline points={points.map((p) => `${p.x},${p.y}`).join(' ')} fill="none" stroke="var(--mui-palette-text-secondary)" />
      {points.map((p) => (
        <circle key={p.v.sweep} cx={p.x} cy={p.y} r={2.5} fill="var(--mui-palette-primary-main)" />
      ))}
    </Box>
  );
}
