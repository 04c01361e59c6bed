import { Box, Grid, Stack, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { keys } from '../app/keys';
import { Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { DeviceLink } from '../devices/DeviceLink';
import { day, moment, number, visible } from '../lib/format';
import { milliseconds, scaleOf } from '../judging/spread';
import { words } from './words';

type Picture = Schema['Pictures'];

/** What stands against what: colours that differ in light and dark, and for who sees no red or green. */
const tones = { unmanaged: 'warning.main', managed: 'primary.main', missing: 'error.main', setAside: 'text.disabled', certificate: 'info.main' } as const;
type Tone = keyof typeof tones;

/** Pictures of the site, each a table with the same facts. */
export function Pictures({ site }: { site: number }) {
  const pictures = useQuery({ queryKey: keys.pictures(site), queryFn: () => answer(api.GET('/api/v1/sites/{site}/pictures', { params: { path: { site } } })) });
  const p = pictures.data;
  if (!p) return null;
  return (
    <Grid container spacing={2} sx={{ mt: 2 }}>
      <Grid size={{ xs: 12, md: 6 }}>
        <Networks networks={p.networks} site={site} />
      </Grid>
      <Grid size={{ xs: 12, md: 6 }}>
        <Stack spacing={2}>
          {p.visits.length > 1 && <Visits visits={p.visits} site={site} />}
          <Certificates bands={p.certificates} />
        </Stack>
      </Grid>
      {p.times.length > 0 && (
        <Grid size={12}>
          <Times times={p.times} site={site} />
        </Grid>
      )}
    </Grid>
  );
}

function Networks({ networks, site }: { networks: Picture['networks']; site: number }) {
  const most = Math.max(1, ...networks.map((n) => n.unmanaged + n.managed + n.missing + n.setAside));
  return (
    <Panel title={words.byNetwork}>
      <Legend tones={['unmanaged', 'managed', 'missing', 'setAside']} />
      <SmallTable
        label={words.byNetwork}
        rows={networks}
        rowKey={(n) => n.subnet}
        columns={[
          {
            head: words.network,
            cell: (n) =>
              n.subnet.includes(':') ? (
                <span title={n.subnet}>{visible(n.network)}</span>
              ) : (
                <Link className="link" to={`/sites/${site}/addresses?subnet=${encodeURIComponent(n.subnet)}`} title={n.subnet}>
                  {visible(n.network)}
                </Link>
              ),
          },
          {
            head: words.share,
            wide: true,
            width: '35%',
            cell: (n) => (
              <Bar
                most={most}
                parts={[
                  ['unmanaged', n.unmanaged],
                  ['managed', n.managed],
                  ['missing', n.missing],
                  ['setAside', n.setAside],
                ]}
              />
            ),
          },
          { head: words.legend.unmanaged, right: true, cell: (n) => number(n.unmanaged) },
          { head: words.legend.managed, right: true, cell: (n) => number(n.managed) },
          { head: words.legend.missing, right: true, cell: (n) => number(n.missing) },
        ]}
      />
    </Panel>
  );
}

function Visits({ visits, site }: { visits: Picture['visits']; site: number }) {
  const most = Math.max(1, ...visits.map((v) => v.seen));
  return (
    <Panel title={words.overTime}>
      <SmallTable
        label={words.overTime}
        rows={visits}
        rowKey={(v) => v.sweep}
        columns={[
          {
            head: words.sweep,
            line: true,
            cell: (v) => (
              <Link className="link" to={`/sites/${site}/sweeps/${v.sweep}`}>
                {moment(v.began)}
              </Link>
            ),
          },
          {
            head: words.share,
            wide: true,
            width: '45%',
            cell: (v) => (
              <Bar
                most={most}
                parts={[
                  ['unmanaged', v.unmanaged],
                  ['managed', v.seen - v.unmanaged],
                ]}
              />
            ),
          },
          { head: words.legend.unmanaged, right: true, cell: (v) => number(v.unmanaged) },
          { head: words.seenToo, right: true, cell: (v) => number(v.seen) },
        ]}
      />
    </Panel>
  );
}

function Certificates({ bands }: { bands: Picture['certificates'] }) {
  const most = Math.max(1, ...bands.map((b) => b.certificates));
  return (
    <Panel title={words.certificates}>
      <SmallTable
        label={words.certificates}
        rows={bands}
        rowKey={(b) => b.band}
        columns={[
          { head: words.ends, line: true, cell: (b) => words.bands[b.band] },
          { head: words.share, wide: true, width: '30%', cell: (b) => <Bar most={most} parts={[['certificate', b.certificates]]} /> },
          { head: words.count, right: true, cell: (b) => number(b.certificates) },
          {
            head: words.soonest,
            cell: (b) =>
              b.soonest.slice(0, 2).map((c) => (
                <div key={`${c.device} ${c.port}`}>
                  <DeviceLink device={c.device} name={c.name} />{' '}
                  <Box component="span" sx={{ whiteSpace: 'nowrap' }}>
                    {day(c.until)}
                  </Box>
                </div>
              )),
          },
        ]}
      />
    </Panel>
  );
}

function Times({ times, site }: { times: Picture['times']; site: number }) {
  const scale = scaleOf(times);
  return (
    <Panel title={words.times}>
      <SmallTable
        label={words.times}
        rows={times}
        rowKey={(t) => t.protocol}
        columns={[
          {
            head: words.protocol,
            line: true,
            cell: (t) => (
              <Link className="link" to={`/sites/${site}/response-times?protocol=${encodeURIComponent(t.protocol)}`}>
                {visible(t.protocol)}
              </Link>
            ),
          },
          {
            head: words.fromTo(milliseconds(scale.marks[0] ?? 0), milliseconds(scale.marks.at(-1) ?? 0)),
            wide: true,
            width: '50%',
            cell: (t) => <SpreadStrip spread={t} scale={scale} />,
          },
          { head: words.median, right: true, cell: (t) => milliseconds(t.middle) },
          { head: words.within95, right: true, cell: (t) => milliseconds(t.most) },
          { head: words.devices, right: true, cell: (t) => number(t.devices) },
        ]}
      />
      <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>
        {words.timesText}
      </Typography>
    </Panel>
  );
}

/** How values lie: a line over nine of ten, a bar over half of them, and a mark at the median. */
function SpreadStrip({ spread, scale: { place, marks } }: { spread: Schema['TimeSpread']; scale: ReturnType<typeof scaleOf> }) {
  const part = (from: number, to: number, top: number, height: number, color: string) => (
    <Box
      sx={{ position: 'absolute', left: `${100 * place(from)}%`, width: `${100 * (place(to) - place(from))}%`, minWidth: 3, top, height, bgcolor: color, borderRadius: '1px' }}
    />
  );
  return (
    <Box aria-hidden sx={{ position: 'relative', height: 14, my: 0.5 }}>
      {marks.map((ms) => (
        <Box key={ms} sx={{ position: 'absolute', left: `${100 * place(ms)}%`, width: '1px', top: 0, bottom: 0, bgcolor: 'divider' }} />
      ))}
      {part(spread.least, spread.most, 6, 2, 'text.disabled')}
      {part(spread.low, spread.high, 2, 10, 'primary.main')}
      {part(spread.middle, spread.middle, 0, 14, 'warning.main')}
    </Box>
  );
}

/** Says what each colour stands for. */
function Legend({ tones: shown }: { tones: Exclude<Tone, 'certificate'>[] }) {
  return (
    <Stack direction="row" spacing={2} useFlexGap sx={{ flexWrap: 'wrap', mb: 0.5 }}>
      {shown.map((tone) => (
        <span key={tone}>
          <Box component="span" sx={{ width: 10, height: 10, borderRadius: '2px', bgcolor: tones[tone], display: 'inline-block', mr: 0.5 }} />
          {words.legend[tone]}
        </span>
      ))}
    </Stack>
  );
}

function Bar({ most, parts }: { most: number; parts: [Tone, number][] }) {
  return (
    <Box aria-hidden sx={{ display: 'flex', gap: '2px', my: 0.5 }}>
      {parts.map(([tone, n]) => n > 0 && <Box key={tone} sx={{ width: `${(100 * n) / most}%`, height: 12, bgcolor: tones[tone], borderRadius: '2px' }} />)}
    </Box>
  );
}
