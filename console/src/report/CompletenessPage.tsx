import { Box, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Schema } from '../api/client';
import { keys } from '../app/keys';
import { Within } from '../app/Loaded';
import { Empty, Page, Panel } from '../app/parts';
import { useSiteId } from '../app/queries';
import { SmallTable } from '../app/SmallTable';
import { number, visible } from '../lib/format';
import { words } from './words';

type Figure = Schema['CompletenessFigure'];

/** How many devices were missed, network by network, and what would make that surer. */
export function CompletenessPage() {
  const site = useSiteId();
  const complete = useQuery({ queryKey: keys.completeness(site), queryFn: () => answer(api.GET('/api/v1/sites/{site}/completeness', { params: { path: { site } } })) });
  return (
    <Page title={words.completeness}>
      <Within query={complete}>
        {(c) => (
          <>
            <Panel>
              {c.networks.length > 0 ? (
                <Figures figures={c.networks.length > 1 ? [...c.networks, c.site] : c.networks} />
              ) : (
                <Empty title={words.nothingSwept}>{words.completeIsWhat}</Empty>
              )}
            </Panel>
            {c.unswept.length > 0 && <Typography>{words.unswept(c.unswept.map(visible).join(', '))}</Typography>}
            <Advice figures={c.networks} />
            <Panel title={words.assumptions}>
              <List texts={c.assumptions} />
            </Panel>
          </>
        )}
      </Within>
    </Page>
  );
}

function Figures({ figures }: { figures: Figure[] }) {
  return (
    <SmallTable
      label={words.completeness}
      rows={figures}
      rowKey={(f) => f.subnet ?? ''}
      columns={[
        { head: words.network, cell: (f) => (f.network ? `${visible(f.network)} ${f.subnet ?? ''}` : <b>{words.allTogether}</b>) },
        { head: words.seen, right: true, cell: (f) => number(f.seen) },
        { head: words.missed, right: true, cell: (f) => (f.told ? f.missed.toFixed(1) : words.notTold) },
        { head: words.between, line: true, cell: (f) => f.told && <Interval figure={f} /> },
        { head: words.ways, wide: true, cell: (f) => f.ways.map((w) => `${w.way} ${w.devices}`).join(', ') },
        { head: words.sweep, right: true, wide: true, cell: (f) => f.sweep },
      ]}
    />
  );
}

/** The bounds, and how they lie against what was seen. */
function Interval({ figure: f }: { figure: Figure }) {
  const low = Math.floor(f.low);
  const high = Math.ceil(f.high);
  const whole = Math.max(1, f.seen + high);
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
      <span>
        {low}–{high}
      </span>
      <Box aria-hidden sx={{ display: 'flex', width: 90, height: 8, bgcolor: 'divider' }}>
        <Box sx={{ width: `${(100 * f.seen) / whole}%`, bgcolor: 'primary.main' }} />
        <Box sx={{ width: `${(100 * low) / whole}%`, bgcolor: 'warning.main' }} />
      </Box>
    </Box>
  );
}

function Advice({ figures }: { figures: Figure[] }) {
  const of = new Map<string, string[]>();
  for (const f of figures) for (const advice of f.advice) of.set(advice, [...(of.get(advice) ?? []), visible(f.network ?? '')]);
  if (of.size === 0) return null;
  return (
    <Panel title={words.helps}>
      <List texts={[...of].map(([advice, networks]) => `${networks.join(', ')}: ${advice}`)} />
    </Panel>
  );
}

function List({ texts }: { texts: string[] }) {
  return (
    <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
      {texts.map((t) => (
        <li key={t}>{t}</li>
      ))}
    </Box>
  );
}
