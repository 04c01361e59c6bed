import { Box } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Device, type Schema } from '../api/client';
import { keys } from '../app/keys';
import { Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { milliseconds } from '../judging/spread';
import { moment, visible } from '../lib/format';
import { words } from './words';

type Visit = Schema['VisitTimes'];

const manyVisits = 200;

/** How long the device took over its answers: the newest times by protocol and vantage, and how the medians went from sweep to sweep. */
export function DeviceTimes({ d }: { d: Device }) {
  const visits = useQuery({
    queryKey: keys.timesOf(d.id),
    queryFn: async () => (await answer(api.GET('/api/v1/devices/{device}/response-times', { params: { path: { device: d.id }, query: { limit: manyVisits } } }))).items,
  });
  const series = new Map<string, Visit[]>();
  for (const v of visits.data ?? []) {
    const key = `${v.protocol} ${v.vantage ?? ''}`;
    series.set(key, [...(series.get(key) ?? []), v]);
  }
  if (series.size === 0) return null;
  const vantages = new Set((visits.data ?? []).map((v) => v.vantage));
  return (
    <Panel title={words.responseTimes}>
      <SmallTable
        label={words.responseTimes}
        rows={[...series].sort(([a], [b]) => a.localeCompare(b)).flatMap(([, list]) => (list[0] ? [{ newest: list[0], list }] : []))}
        rowKey={({ newest }) => `${newest.protocol} ${newest.vantage ?? ''}`}
        columns={[
          { head: words.protocol, cell: ({ newest }) => visible(newest.protocol) },
          vantages.size > 1 && { head: words.seenFrom, cell: ({ newest }) => visible(newest.vantage ?? '') },
          { head: words.median, right: true, cell: ({ newest }) => milliseconds(newest.median) },
          { head: words.n95Within, right: true, cell: ({ newest }) => milliseconds(newest.most) },
          { head: words.lost, right: true, cell: ({ newest }) => (newest.lost ? words.of(newest.lost, newest.answers + newest.lost) : '') },
          { head: words.overTime, cell: ({ list }) => <Course visits={list} /> },
        ]}
      />
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
    <Box component="svg" viewBox="0 0 90 22" role="img" aria-label={words.medians(says)} sx={{ width: 90, height: 22, display: 'block' }}>
      <title>{says}</title>
      <polyline points={points.map((p) => `${p.x},${p.y}`).join(' ')} fill="none" stroke="var(--mui-palette-text-secondary)" />
      {points.map((p) => (
        <circle key={p.v.sweep} cx={p.x} cy={p.y} r={2.5} fill="var(--mui-palette-primary-main)" />
      ))}
    </Box>
  );
}
