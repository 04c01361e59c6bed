import { Alert, Box, Button, Grid, Link, Paper, Stack, Table, TableBody, TableCell, TableHead, TableRow, Typography } from '@mui/material';
import type { ReactNode } from 'react';
import { Link as RouterLink } from 'react-router';

import type { Schema, Sweep } from '../api/client';
import { Empty, Failure, Loading, Page, Panel } from '../app/parts';
import { useOverview, useSiteId } from '../app/queries';
import { KindIcon, kindLabel } from '../devices/kinds';
import { count, moment, visible } from '../lib/format';
import { StartSweepButton } from '../sweeps/StartSweep';
import { StateChip, sweepSentence } from '../sweeps/state';

type Overview = Schema['Overview'];

/** What is at the site, what nobody manages, what needs a look, and the last sweep. */
export function OverviewPage() {
  const site = useSiteId();
  const overview = useOverview(site);
  if (overview.isPending) return <Loading />;
  if (overview.error) {
    return (
      <Page title="Overview">
        <Failure failure={overview.error} />
      </Page>
    );
  }
  const o = overview.data;
  return (
    <Page title={o.site.name} actions={<StartSweepButton site={o.site} />}>
      {o.notices.map((text) => (
        <Alert key={text} severity="warning">
          {visible(text)}
        </Alert>
      ))}
      {o.lastSweep ? <Figures site={site} o={o} /> : <NothingYet o={o} />}
    </Page>
  );
}

function NothingYet({ o }: { o: Overview }) {
  return (
    <Panel>
      <Empty title="Nothing is known yet">
        Start a sweep to see what answers in {o.site.networks.map((n) => n.subnet).join(', ') || 'the networks of this site'}, and import the register to
        see which of it nobody manages.
      </Empty>
    </Panel>
  );
}

function Figures({ site, o }: { site: number; o: Overview }) {
  const devices = (query: string) => `/sites/${site}/devices?${query}`;
  return (
    <>
      <Grid container spacing={2}>
        <Figure value={o.counts.unmanaged} label="nobody manages" to={devices('standing=unmanaged')} strong />
        <Figure value={o.counts.managed} label="managed" to={devices('standing=managed')} />
        <Figure value={o.counts.missing} label="in the register, missing" to={devices('standing=missing')} />
        <Figure value={o.seen} label="seen" to={devices('presence=seen')} />
      </Grid>
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
    </>
  );
}

function Figure({ value, label, to, strong }: { value: number; label: string; to: string; strong?: boolean }) {
  return (
    <Grid size={{ xs: 6, md: 3 }}>
      <Paper
        variant="outlined"
        component={RouterLink}
        to={to}
        sx={{
          display: 'block', p: 2, height: '100%', color: 'text.primary', textDecoration: 'none',
          borderColor: strong && value > 0 ? 'warning.main' : 'divider', '&:hover, &:focus-visible': { bgcolor: 'action.hover' },
        }}
      >
        <Typography component="p" sx={{ fontSize: '2.1rem', fontWeight: 700, lineHeight: 1.1, color: strong && value > 0 ? 'warning.main' : 'inherit' }}>
          {value.toLocaleString()}
        </Typography>
        <Typography color="textSecondary">{label}</Typography>
      </Paper>
    </Grid>
  );
}

function Kinds({ kinds, to }: { kinds: Overview['kinds']; to: (kind: string) => string }) {
  const most = Math.max(1, ...kinds.map((k) => k.devices));
  return (
    <Panel title="What is here">
      <Table size="small" aria-label="Devices seen, by kind">
        <TableHead>
          <TableRow>
            <TableCell>Kind</TableCell>
            <TableCell sx={{ width: '45%', display: { xs: 'none', sm: 'table-cell' } }}>
              <Legend />
            </TableCell>
            <TableCell align="right">Unmanaged</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {kinds.map((k) => (
            <TableRow key={k.kind} hover>
              <TableCell>
                <Link component={RouterLink} to={to(k.kind)} color="inherit" underline="hover" sx={{ display: 'inline-flex', alignItems: 'center', gap: 1, whiteSpace: 'nowrap' }}>
                  <KindIcon kind={k.kind} /> {kindLabel(k.kind)}
                </Link>
              </TableCell>
              <TableCell sx={{ display: { xs: 'none', sm: 'table-cell' } }}>
                <Bar managed={k.devices - k.unmanaged} unmanaged={k.unmanaged} most={most} />
              </TableCell>
              <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
                {k.unmanaged} of {k.devices}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Panel>
  );
}

function Legend() {
  const swatch = (colour: string) => <Box component="span" sx={{ width: 10, height: 10, borderRadius: '2px', bgcolor: colour, display: 'inline-block', mr: 0.5 }} />;
  return (
    <Stack direction="row" spacing={2} component="span" sx={{ whiteSpace: 'nowrap' }}>
      <span>{swatch('primary.main')}managed</span>
      <span>{swatch('warning.main')}unmanaged</span>
    </Stack>
  );
}

function Bar({ managed, unmanaged, most }: { managed: number; unmanaged: number; most: number }) {
  const part = (n: number, colour: string) => n > 0 && <Box sx={{ width: `${(100 * n) / most}%`, height: 12, bgcolor: colour }} />;
  return (
    <Box aria-hidden sx={{ display: 'flex', gap: '2px', borderRadius: 1, overflow: 'hidden' }}>
      {part(managed, 'primary.main')}
      {part(unmanaged, 'warning.main')}
    </Box>
  );
}

function NeedsALook({ o, devices, site }: { o: Overview; devices: (query: string) => string; site: number }) {
  const rows: { show: boolean; text: string; to: string }[] = [
    { show: o.register === 0, text: 'The register is empty: import it to see which devices nobody manages', to: `/sites/${site}/register` },
    { show: o.contested > 0, text: `${count(o.contested, 'device')} at an address that another device holds too`, to: devices('contested=true') },
    ...o.traits
      .filter((t) => t.name !== 'own machine')
      .map((t) => ({ show: true, text: `${count(t.devices, 'device')}: ${t.name}`, to: devices(`trait=${encodeURIComponent(t.name)}`) })),
    { show: o.unknownKind > 0, text: `${count(o.unknownKind, 'device')} of unknown kind`, to: devices('kind=unknown&presence=seen') },
    { show: o.counts.setAside > 0, text: `${count(o.counts.setAside, 'device')} set aside`, to: devices('standing=set+aside') },
    { show: o.silent > 0, text: `${count(o.silent, 'device')} that did not answer`, to: devices('presence=silent') },
  ];
  const shown = rows.filter((r) => r.show);
  return (
    <Panel title="Needs a look">
      {shown.length === 0 ? <Typography color="textSecondary">Nothing.</Typography> : <LinkList rows={shown} />}
    </Panel>
  );
}

function LinkList({ rows }: { rows: { text: string; to: string }[] }) {
  return (
    <Box component="ul" sx={{ m: 0, pl: 2.5, '& li': { mb: 0.75 } }}>
      {rows.map((r) => (
        <li key={r.to}>
          <Link component={RouterLink} to={r.to}>
            {r.text}
          </Link>
        </li>
      ))}
    </Box>
  );
}

function LastSweep({ site, sweep }: { site: number; sweep: Sweep }) {
  const facts: [string, ReactNode][] = [
    ['Began', moment(sweep.began)],
    ['From', sweep.vantage],
    ['Looked at', sweep.ranges],
  ];
  return (
    <Panel title={<Stack direction="row" spacing={1} sx={{ alignItems: 'center' }}><span>Last sweep</span><StateChip state={sweep.state} /></Stack>}>
      <Typography sx={{ mb: 1 }}>{sweepSentence(sweep)}</Typography>
      <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'auto 1fr', columnGap: 2, rowGap: 0.5, m: 0, '& dt': { color: 'text.secondary' }, '& dd': { m: 0 } }}>
        {facts.map(([name, value]) => (
          <Box key={name} sx={{ display: 'contents' }}>
            <dt>{name}</dt>
            <dd>{value}</dd>
          </Box>
        ))}
      </Box>
      <Button component={RouterLink} to={`/sites/${site}/sweeps/${sweep.id}`} sx={{ mt: 1, ml: -1 }}>
        What it saw
      </Button>
    </Panel>
  );
}
