import ContinueIcon from '@mui/icons-material/PlayArrowOutlined';
import PinIcon from '@mui/icons-material/PushPinOutlined';
import DiscardIcon from '@mui/icons-material/DeleteOutlined';
import StopIcon from '@mui/icons-material/StopOutlined';
import {Alert, Box, Button, Dialog, DialogActions, DialogContent, DialogContentText, DialogTitle, LinearProgress, Link, Paper, Stack, Typography } from '@mui/material';
import { DataGrid, type GridColDef } from '@mui/x-data-grid';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink, useNavigate, useParams } from 'react-router';

import { answer, api, type Progress, type Sighting, type Sweep } from '../api/client';
import { DeviceText, Empty, Failure, Loading, Page, Panel } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { KindCell } from '../devices/kinds';
import { moment, span, visible } from '../lib/format';
import { StateChip, sweepSentence } from './state';
import { useSweepEvents } from './useSweepEvents';

/** One sweep: how far it is, and what it has seen so far. */
export function SweepPage() {
  const id = Number(useParams().sweep);
  const [turn, setTurn] = useState(0);
  const watched = useSweepEvents(id, turn);
  const stored = useQuery({ queryKey: ['sweep', id], queryFn: () => answer(api.GET('/api/v1/sweeps/{sweep}', { params: { path: { sweep: id } } })) });
  const may = useMay('sweep');
  const stop = useMutation({ mutationFn: () => answer(api.POST('/api/v1/sweeps/{sweep}/stop', { params: { path: { sweep: id } } })) });
  if (stored.error) {
    return (
      <Page title="Sweep">
        <Failure failure={stored.error} />
      </Page>
    );
  }
  const sweep = watched.final ?? stored.data;
  if (!sweep) return <Loading />;
  const running = sweep.state === 'running';
  return (
    <Page
      title={
        <Stack direction="row" spacing={1.5} sx={{ alignItems: 'center' }}>
          <span>Sweep {sweep.id}</span>
          <StateChip state={sweep.state} />
        </Stack>
      }
      actions={
        may &&
        (running ? (
          <Button variant="outlined" color="warning" startIcon={<StopIcon />} loading={stop.isPending} onClick={() => stop.mutate()}>
            Stop, and keep what was seen
          </Button>
        ) : (
          <EndedActions sweep={sweep} onContinued={() => setTurn(turn + 1)} />
        ))
      }
    >
      <Failure failure={stop.error} />
      {watched.broken && running && <Alert severity="warning">The line to the service broke; the console tries again by itself.</Alert>}
      {watched.warnings.map((w) => (
        <Alert key={w} severity="info">
          {w}
        </Alert>
      ))}
      {sweep.failure && <Alert severity="error">{sweep.failure}</Alert>}
      {running ? <Running progress={watched.progress} sweep={sweep} /> : <Ended sweep={sweep} />}
      <Sightings rows={[...watched.sightings.values()]} running={running} />
      {!running && <Log id={id} />}
    </Page>
  );
}

/** What can be done with a sweep that is over. */
function EndedActions({ sweep, onContinued }: { sweep: Sweep; onContinued: () => void }) {
  const [asking, setAsking] = useState(false);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const path = { sweep: sweep.id };
  const goOn = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/sweeps/{sweep}/continue', { params: { path } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['sweep', sweep.id] });
      onContinued();
    },
  });
  const pin = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sweeps/{sweep}/pinned', { params: { path }, body: { pinned: !sweep.pinned } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['sweep', sweep.id] }),
  });
  const discard = useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/sweeps/{sweep}', { params: { path } })),
    onSuccess: async () => {
      for (const key of ['sweeps', 'overview', 'devices', 'device', 'history', 'fence']) void queries.invalidateQueries({ queryKey: [key] });
      await navigate(`/sites/${sweep.site}/sweeps`);
    },
  });
  return (
    <Stack spacing={1}>
      <Stack direction="row" spacing={1} sx={{ justifyContent: 'end' }}>
        {sweep.state !== 'done' && (
          <Button variant="contained" startIcon={<ContinueIcon />} loading={goOn.isPending} onClick={() => goOn.mutate()}>
            Go on from here
          </Button>
        )}
        <Button variant="outlined" startIcon={<PinIcon />} loading={pin.isPending} onClick={() => pin.mutate()}>
          {sweep.pinned ? 'Unpin' : 'Pin'}
        </Button>
        <Button variant="outlined" color="error" startIcon={<DiscardIcon />} onClick={() => setAsking(true)}>
          Discard
        </Button>
      </Stack>
      <Failure failure={goOn.error ?? pin.error} />
      {asking && (
        <Dialog open onClose={() => setAsking(false)}>
          <DialogTitle>Discard sweep {sweep.id}?</DialogTitle>
          <DialogContent>
            <DialogContentText>
              The sweep and all that only it brought are removed: devices that no other sweep saw, and what it changed. Notes and the register stay. This
              cannot be taken back.
            </DialogContentText>
            <Failure failure={discard.error} />
          </DialogContent>
          <DialogActions>
            <Button onClick={() => setAsking(false)}>Keep it</Button>
            <Button color="error" variant="contained" loading={discard.isPending} onClick={() => discard.mutate()}>
              Discard it
            </Button>
          </DialogActions>
        </Dialog>
      )}
    </Stack>
  );
}

/** What happened in a sweep, and when. */
function Log({ id }: { id: number }) {
  const log = useQuery({
    queryKey: ['sweep', id, 'log'],
    queryFn: async () => (await answer(api.GET('/api/v1/sweeps/{sweep}/log', { params: { path: { sweep: id } } })))?.items ?? [],
  });
  return (
    <Panel title="Log">
      <Failure failure={log.error} />
      <Box component="ol" sx={{ listStyle: 'none', m: 0, p: 0, '& time': { color: 'text.secondary', mr: 2 } }}>
        {log.data?.map((l, i) => (
          <li key={i}>
            <time dateTime={l.at}>{moment(l.at)}</time>
            {visible(l.text)}
          </li>
        ))}
      </Box>
    </Panel>
  );
}

function Running({ progress, sweep }: { progress: Progress | undefined; sweep: Sweep }) {
  const share = progress && progress.total > 0 ? (100 * progress.done) / progress.total : 0;
  return (
    <Panel>
      <Stack direction="row" spacing={3} sx={{ mb: 1.5, flexWrap: 'wrap', rowGap: 0.5 }} aria-live="polite">
        <Typography sx={{ fontWeight: 650 }}>{progress?.stage ?? 'beginning'}</Typography>
        <Typography>{Math.floor(share)} %</Typography>
        <Typography>{progress?.found ?? 0} found</Typography>
        <Typography color="textSecondary">{Math.round(progress?.rate ?? 0).toLocaleString()} probes/s</Typography>
        <Typography color="textSecondary">{progress && progress.secondsLeft > 0 ? `${span(progress.secondsLeft)} left in this stage` : ''}</Typography>
      </Stack>
      <LinearProgress variant="determinate" value={share} aria-label="Progress of this stage" sx={{ height: 8, borderRadius: 4 }} />
      <Typography variant="body2" color="textSecondary" sx={{ mt: 1.5 }}>
        {sweep.ranges} from {sweep.vantage}, {sweep.pace}, {sweep.ports} ports
      </Typography>
    </Panel>
  );
}

function Ended({ sweep }: { sweep: Sweep }) {
  return (
    <Panel>
      <Typography>{sweepSentence(sweep)}</Typography>
      <Typography color="textSecondary">
        {sweep.ranges}
        {sweep.exclusions ? ` without ${sweep.exclusions}` : ''} from {sweep.vantage}, {sweep.pace}, {sweep.ports} ports{sweep.startedBy && `, started by ${sweep.startedBy}`}. Against what was known before:{' '}
        {(['appeared', 'vanished', 'moved', 'changed'] as const).map((kind, i) => (
          <span key={kind}>
            {i > 0 && ', '}
            <Link component={RouterLink} to={`/sites/${sweep.site}/changes?sweep=${sweep.id}&kind=${kind}`}>
              {sweep[kind]} {kind}
            </Link>
          </span>
        ))}
        .{sweep.pinned && ' It is pinned: what it saw stays, whatever the site keeps.'}
        {sweep.thinned && ' What it saw is no longer kept; what came of it is.'}
      </Typography>
      <Button component={RouterLink} to={`/sites/${sweep.site}/devices?presence=seen`} sx={{ mt: 1, ml: -1 }}>
        The devices
      </Button>
      <Button component={RouterLink} to={`/sites/${sweep.site}/changes?sweep=${sweep.id}`} sx={{ mt: 1 }}>
        What changed
      </Button>
    </Panel>
  );
}

const columns: GridColDef<Sighting>[] = [
  { field: 'addr', headerName: 'Address', width: 140, sortComparator: compareAddresses, renderCell: ({ row }) => <DeviceText>{[row.addr, row.unit].filter(Boolean).join(' ') || 'none'}</DeviceText> },
  { field: 'mac', headerName: 'MAC', width: 165, renderCell: ({ row }) => <DeviceText>{row.mac}</DeviceText> },
  { field: 'vendor', headerName: 'Vendor', flex: 1, minWidth: 140, renderCell: ({ row }) => visible(row.vendor ?? '') },
  {
    field: 'kind', headerName: 'Kind', width: 180,
    renderCell: ({ row }) => (
      <KindCell kind={row.kind} />
    ),
  },
  {
    field: 'ports', headerName: 'Ports', flex: 0.8, minWidth: 120, sortable: false,
    renderCell: ({ row }) => <DeviceText>{row.ports.map((p) => p.port.replace('tcp/', '')).join(' ')}</DeviceText>,
  },
  { field: 'words', headerName: 'Banner', flex: 1.6, minWidth: 160, sortable: false, renderCell: ({ row }) => <DeviceText>{firstWords(row)}</DeviceText> },
];

/** The most telling banner of a sighting. */
function firstWords(s: Sighting): string {
  const words = s.ports.flatMap((p) => p.words);
  const telling = ['http.title', 'ftp.greeting', 'text.telnet', 'mail.smtp', 'ssh.greeting', 'rtsp.server', 'text.greeting', 'http.server'];
  for (const key of telling) {
    const word = words.find((w) => w.key === key);
    if (word) return word.value;
  }
  return '';
}

/** Puts addresses in order by number. */
function compareAddresses(a: string, b: string): number {
  const key = (text: string) => text.split('.').map((n) => n.padStart(3, '0')).join('.');
  return key(a).localeCompare(key(b));
}

function Sightings({ rows, running }: { rows: Sighting[]; running: boolean }) {
  const site = useSiteId();
  return (
    <Paper variant="outlined" sx={{ height: 'calc(100vh - 330px)', minHeight: 360 }} key={site}>
      <DataGrid
        rows={rows}
        getRowId={(s) => `${s.addr} ${s.mac ?? ''} ${s.unit ?? ''}`}
        columns={columns}
        density="compact"
        disableColumnFilter
        disableColumnMenu
        disableRowSelectionOnClick
        initialState={{ sorting: { sortModel: [{ field: 'addr', sort: 'asc' }] }, pagination: { paginationModel: { pageSize: 100 } } }}
        pageSizeOptions={[50, 100]}
        slots={{ noRowsOverlay: running ? NobodyYet : Nobody }}
        sx={{ border: 0 }}
      />
    </Paper>
  );
}

function NobodyYet() {
  return <Empty title="Nobody has answered yet" />;
}

function Nobody() {
  return <Empty title="Nobody answered">Is the vantage plugged into the right network?</Empty>;
}
