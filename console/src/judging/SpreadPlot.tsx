import { Box, Typography } from '@mui/material';
import { useNavigate } from 'react-router';

import { visible } from '../lib/format';
import { milliseconds, scaleOf, type Group } from './spread';
import { words } from './words';

const left = 190;
const width = 900;
const row = 30;
const head = 26;
const foot = 26;

/** How like devices lie beside each other: a row for each group, a dot for each device's median, a line up to its 95th percentile, a bar
 * between the quartiles. The scale is logarithmic, as times differ by factors. */
export function SpreadPlot({ site, groups }: { site: number; groups: Group[] }) {
  const navigate = useNavigate();
  const all = groups.flatMap((g) => g.devices);
  const scale = scaleOf(all.map((d) => ({ least: d.median, most: d.most })));
  const x = (ms: number) => left + (width - left - 44) * scale.place(ms);
  const height = head + groups.length * row + foot;
  return (
    <Box tabIndex={0} role="group" aria-label={words.plotOfResponseTimesTo} sx={{ overflowX: 'auto' }}>
      <Box
        component="svg"
        viewBox={`0 0 ${width} ${height}`}
        role="img"
        aria-label={words.medianResponseTimesByGroup}
        sx={{
          width: '100%',
          minWidth: 620,
          maxWidth: 1180,
          display: 'block',
          '& text': { fill: 'var(--mui-palette-text-primary)', fontSize: 13 },
          '& .faint': { fill: 'var(--mui-palette-text-secondary)', fontSize: 12 },
        }}
      >
        {scale.marks.map((ms) => (
          <g key={ms}>
            <line x1={x(ms)} x2={x(ms)} y1={head - 4} y2={height - foot} stroke="var(--mui-palette-divider)" />
            {[head - 10, height - 8].map((y) => (
              <text key={y} className="faint" x={x(ms)} y={y} textAnchor="middle">
                {milliseconds(ms)}
              </text>
            ))}
          </g>
        ))}
        {groups.map((g, i) => {
          const y = head + i * row + row / 2;
          return (
            <g key={g.name}>
              <text x={left - 12} y={y + 4} textAnchor="end">
                {shortened(visible(g.name))}
              </text>
              {g.devices.length > 1 && <rect x={x(g.low) - 3} width={x(g.high) - x(g.low) + 6} y={y - 9} height={18} rx={4} fill="var(--mui-palette-action-selected)" />}
              {g.devices.length > 1 && <line x1={x(g.middle)} x2={x(g.middle)} y1={y - 9} y2={y + 9} stroke="var(--mui-palette-text-secondary)" strokeWidth={2} />}
              {g.devices.map((d) => {
                const out = g.outliers.has(d.device);
                const colour = out ? 'var(--mui-palette-error-main)' : 'var(--mui-palette-primary-main)';
                return (
                  <g key={d.device} style={{ cursor: 'pointer' }} onClick={() => void navigate(`/sites/${site}/devices/${d.device}`)}>
                    <title>
                      {words.median95Within(visible(d.name || d.addr || `device ${d.device}`), milliseconds(d.median), milliseconds(d.most), out ? words.farSlowerThanIts : '')}
                    </title>
                    <line x1={x(d.median)} x2={x(d.most)} y1={y} y2={y} stroke={colour} strokeOpacity={0.35} strokeWidth={2} />
                    <circle cx={x(d.median)} cy={y} r={out ? 6 : 4.5} fill={colour} fillOpacity={0.75} />
                  </g>
                );
              })}
            </g>
          );
        })}
      </Box>
      <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>
        {words.eachDotIsADevices}
      </Typography>
    </Box>
  );
}

function shortened(text: string) {
  return text.length > 24 ? `${text.slice(0, 23)}…` : text;
}
