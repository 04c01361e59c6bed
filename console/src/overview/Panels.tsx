import { Box, Button, Grid, Stack, Typography } from '@mui/material';
import type { ReactNode } from 'react';
import { Link } from 'react-router';

import type { Schema, Sweep } from '../api/client';
import { useFold } from '../app/Fold';
import { Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { KindCell } from '../devices/kinds';
import { count, moment } from '../lib/format';
import { StateTag, sweepSentence } from '../sweeps/state';
import { Pictures } from './Pictures';
import { words } from './words';

type Overview = Schema['Overview'];

/** What is below the figures: the kinds of devices, what needs a look, and the last sweep. */
export function Panels({ site, o }: { site: number; o: Overview }) {
  const devices = (query: string) => `/sites/${site}/devices?${query}`;
  return (
    <>
      <Grid container spacing={2}>
        <Grid size={{ xs: 12, md: 7 }}>
          <Kinds kinds={o.kinds} to={(kind) => devices(`kind=${kind}&presence=seen`)} />
        </Grid>
        <Grid size={{ xs: 12, md: 5 }}>
          <Stack spacing={2}>
            <NeedsALook o={o} devices={devices} site={site} />
            {o.lastSweep && <LastSweep site={site} sweep={o.lastSweep} />}
          </Stack>
        </Grid>
      </Grid>
      {o.lastSweep && <Pictures site={site} />}
    </>
  );
}

function Kinds({ kinds, to }: { kinds: Overview['kinds']; to: (kind: string) => string }) {
  const most = Math.max(1, ...kinds.map((k) => k.devices));
  const [shown, more] = useFold(kinds, 14);
  return (
    <Panel title={words.whatIsHere}>
      <SmallTable
        label={words.devicesSeenByKind}
        rows={shown}
        rowKey={(k) => k.kind}
        columns={[
          {
            head: words.kind,
            cell: (k) => (
              <Link className="link plain" to={to(k.kind)}>
                <KindCell kind={k.kind} />
              </Link>
            ),
          },
          { head: <Legend />, wide: true, width: '45%', cell: (k) => <Bar managed={k.devices - k.unmanaged} unmanaged={k.unmanaged} most={most} /> },
          {
            head: words.unmanaged,
            right: true,
            line: true,
            cell: (k) => (
              <>
                {k.unmanaged} {words.of} {k.devices}
              </>
            ),
          },
        ]}
      />
      {more}
    </Panel>
  );
}

function Legend() {
  const swatch = (colour: string) => <Box component="span" sx={{ width: 10, height: 10, borderRadius: '2px', bgcolor: colour, display: 'inline-block', mr: 0.5 }} />;
  return (
    <Stack direction="row" spacing={2} component="span" sx={{ whiteSpace: 'nowrap' }}>
      <span>
        {swatch('primary.main')}
        {words.managed}
      </span>
      <span>
        {swatch('warning.main')}
        {words.unmanagedToo}
      </span>
    </Stack>
  );
}

function Bar({ managed, unmanaged, most }: { managed: number; unmanaged: number; most: number }) {
  const part = (n: number, colour: string) => n > 0 && <Box sx={{ width: `${(100 * n) / most}%`, height: 12, bgcolor: colour, borderRadius: '2px' }} />;
  return (
    <Box aria-hidden sx={{ display: 'flex', gap: '2px', my: 0.5 }}>
      {part(managed, 'primary.main')}
      {part(unmanaged, 'warning.main')}
    </Box>
  );
}

function NeedsALook({ o, devices, site }: { o: Overview; devices: (query: string) => string; site: number }) {
  const rows: { show: boolean; text: string; to: string }[] = [
    { show: o.register === 0, text: words.theRegisterIsEmptyImport, to: `/sites/${site}/register` },
    ...o.findings
      .filter((f) => f.severity === 'critical' || f.severity === 'high')
      .map((f) => ({ show: true, text: words.findingsOf(count(f.findings, 'finding'), f.severity), to: `/sites/${site}/findings?severity=${f.severity}&worst=${f.severity}` })),
    { show: o.contested > 0, text: words.atAnAddressThatAnother(count(o.contested, 'device')), to: devices('contested=true') },
    ...o.traits
      .filter((t) => t.name !== 'own machine')
      .map((t) => ({ show: true, text: `${count(t.devices, 'device')}: ${t.name}`, to: devices(`trait=${encodeURIComponent(t.name)}`) })),
    { show: o.unknownKind > 0, text: words.ofUnknownKind(count(o.unknownKind, 'device')), to: devices('kind=unknown&presence=seen') },
    { show: o.counts.setAside > 0, text: words.setAside(count(o.counts.setAside, 'device')), to: devices('standing=set+aside') },
    { show: o.silent > 0, text: words.thatDidNotAnswer(count(o.silent, 'device')), to: devices('presence=silent') },
  ];
  const shown = rows.filter((r) => r.show);
  return <Panel title={words.needsALook}>{shown.length === 0 ? <Typography color="textSecondary">{words.nothing}</Typography> : <LinkList rows={shown} />}</Panel>;
}

function LinkList({ rows }: { rows: { text: string; to: string }[] }) {
  return (
    <Box component="ul" sx={{ m: 0, pl: 2.5, '& li': { mb: 0.75 } }}>
      {rows.map((r) => (
        <li key={r.to}>
          <Link className="link" to={r.to}>
            {r.text}
          </Link>
        </li>
      ))}
    </Box>
  );
}

function LastSweep({ site, sweep }: { site: number; sweep: Sweep }) {
  const facts: [string, ReactNode][] = [
    [words.began, moment(sweep.began)],
    [words.from, sweep.vantage],
    [words.lookedAt, sweep.ranges],
  ];
  return (
    <Panel
      title={
        <Stack direction="row" spacing={1} sx={{ alignItems: 'center' }}>
          <span>{words.lastSweep}</span>
          <StateTag state={sweep.state} />
        </Stack>
      }
    >
      <Typography sx={{ mb: 1 }}>{sweepSentence(sweep)}</Typography>
      <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'auto 1fr', columnGap: 2, rowGap: 0.5, m: 0, '& dt': { color: 'text.secondary' }, '& dd': { m: 0 } }}>
        {facts.map(([name, value]) => (
          <Box key={name} sx={{ display: 'contents' }}>
            <dt>{name}</dt>
            <dd>{value}</dd>
          </Box>
        ))}
      </Box>
      <Button component={Link} to={`/sites/${site}/sweeps/${sweep.id}`} sx={{ mt: 1, ml: -1 }}>
        {words.whatItSaw}
      </Button>
    </Panel>
  );
}
