import DownloadIcon from '@mui/icons-material/DownloadOutlined';
import { Box, Button, Chip, Link, MenuItem, Paper, Stack, Table, TableBody, TableCell, TableContainer, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { useAddress } from '../app/address';
import { Empty, Failure, Loading, Page, Panel } from '../app/parts';
import { useSiteId } from '../app/queries';
import { kindLabel } from '../devices/kinds';
import { count, visible } from '../lib/format';

type State = Schema['DeviceOpenness']['state'];

const states: State[] = ['open', 'own', 'closed'];
const stateSays: Record<State, string> = { open: 'over an open protocol', own: 'in their makers’ own ways alone', closed: 'not at all: a gateway is needed' };
const stateColours = { open: 'success', own: 'warning', closed: 'error' } as const;

/** How many devices the table shows before it is asked for more. */
const fewRows = 50;

/** Which devices of the building's systems can be read over an open protocol today, over which, and how much they offer. */
export function OpennessPage() {
  const site = useSiteId();
  const [params, set] = useAddress();
  const system = params.get('system') ?? undefined;
  const state = states.find((s) => s === params.get('state'));
  const rows = Number(params.get('rows')) || fewRows;
  const openness = useQuery({
    queryKey: ['openness', site, system, state],
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/openness', { params: { path: { site }, query: { system, state } } })),
  });
  const csv = new URLSearchParams({ ...(system && { system }), ...(state && { state }) });
  const data = openness.data;
  return (
    <Page
      title="Openness"
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          <TextField select size="small" label="Can be read" value={state ?? ''} onChange={(e) => set({ state: e.target.value, rows: undefined })} sx={{ minWidth: 230 }} slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}>
            <MenuItem value="">any</MenuItem>
            {states.map((s) => (
              <MenuItem key={s} value={s}>
                {s}: {stateSays[s]}
              </MenuItem>
            ))}
          </TextField>
          {system && (
            <Button variant="outlined" onClick={() => set({ system: undefined, rows: undefined })}>
              {visible(system)} only: show all
            </Button>
          )}
          <Button startIcon={<DownloadIcon />} href={`/api/v1/sites/${site}/openness.csv?${csv.toString()}`} download="openness.csv">
            CSV
          </Button>
        </Stack>
      }
    >
      <Failure failure={openness.error} />
      {openness.isPending && <Loading />}
      {data && data.systems.length === 0 && (
        <Panel>
          <Empty title="No device of a building’s system is known yet">Controllers, meters, lights, doors and the like are told by what they say in a sweep.</Empty>
        </Panel>
      )}
      {data && data.systems.length > 0 && (
        <>
          <Systems systems={data.systems} onSystem={(name) => set({ system: name, rows: undefined })} />
          <Devices site={site} devices={data.devices} rows={rows} onMore={() => set({ rows: String(rows + 200) })} />
        </>
      )}
    </Page>
  );
}

function Systems({ systems, onSystem }: { systems: Schema['SystemOpenness'][]; onSystem: (name: string) => void }) {
  return (
    <TableContainer component={Paper} variant="outlined" tabIndex={0} role="group" aria-label="Systems, to be scrolled">
      <Table size="small" aria-label="Systems">
        <TableHead>
          <TableRow>
            <TableCell>System</TableCell>
            <TableCell align="right">Devices</TableCell>
            <TableCell sx={{ minWidth: 220 }}>Open, own, closed</TableCell>
            <TableCell align="right">Points</TableCell>
            <TableCell>Open protocols</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {systems.map((s) => (
            <TableRow key={s.system} hover>
              <TableCell>
                <Link component="button" type="button" onClick={() => onSystem(s.system)} title={`Only ${s.system}`} sx={{ whiteSpace: 'nowrap' }}>
                  {visible(s.system)}
                </Link>
              </TableCell>
              <TableCell align="right">{s.devices}</TableCell>
              <TableCell>
                <Shares system={s} />
              </TableCell>
              <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>{s.counted > 0 ? `${s.points.toLocaleString()} of ${count(s.counted, 'device')}` : 'not counted'}</TableCell>
              <TableCell>
                <Stack direction="row" spacing={0.75} useFlexGap sx={{ flexWrap: 'wrap' }}>
                  {s.protocols.map((p) => (
                    <Chip key={p.protocol} size="small" variant="outlined" label={`${visible(p.protocol)} × ${p.devices}`} />
                  ))}
                </Stack>
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </TableContainer>
  );
}

/** How many of a system's devices can be read in which way, as a bar with its figures. */
function Shares({ system: s }: { system: Schema['SystemOpenness'] }) {
  const parts = states.map((state) => ({ state, n: s[state] })).filter((p) => p.n > 0);
  return (
    <Stack direction="row" spacing={1.5} sx={{ alignItems: 'center' }}>
      <Box aria-hidden sx={{ display: 'flex', width: 120, height: 10, borderRadius: 1, overflow: 'hidden', bgcolor: 'action.hover' }}>
        {parts.map((p) => (
          <Box key={p.state} sx={{ width: `${(100 * p.n) / s.devices}%`, bgcolor: `${stateColours[p.state]}.main` }} />
        ))}
      </Box>
      <Typography variant="body2" sx={{ whiteSpace: 'nowrap' }}>{parts.map((p) => `${p.n} ${p.state}`).join(', ')}</Typography>
    </Stack>
  );
}

function Devices({ site, devices, rows, onMore }: { site: number; devices: Schema['DeviceOpenness'][]; rows: number; onMore: () => void }) {
  if (devices.length === 0) {
    return (
      <Panel>
        <Empty title="No device is like this" />
      </Panel>
    );
  }
  return (
    <>
      <TableContainer component={Paper} variant="outlined" tabIndex={0} role="group" aria-label="Devices, to be scrolled">
        <Table size="small" aria-label="Devices">
          <TableHead>
            <TableRow>
              <TableCell>Device</TableCell>
              <TableCell>Address</TableCell>
              <TableCell>System</TableCell>
              <TableCell>Kind</TableCell>
              <TableCell>Model</TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>Can be read</TableCell>
              <TableCell>Over</TableCell>
              <TableCell align="right">Points</TableCell>
              <TableCell>Flags</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {devices.slice(0, rows).map((d) => (
              <TableRow key={d.device} hover>
                <TableCell>
                  <Link component={RouterLink} to={`/sites/${site}/devices/${d.device}`}>
                    {visible(d.name || d.addr || `device ${d.device}`)}
                  </Link>
                </TableCell>
                <TableCell>{d.addr}</TableCell>
                <TableCell>{visible(d.system)}</TableCell>
                <TableCell>{kindLabel(d.kind)}</TableCell>
                <TableCell>{visible(d.model ?? '')}</TableCell>
                <TableCell>
                  <Chip size="small" variant="outlined" color={stateColours[d.state]} label={d.state} />
                </TableCell>
                <TableCell>{d.protocols.map(visible).join(', ')}</TableCell>
                <TableCell align="right">{d.points?.toLocaleString() ?? ''}</TableCell>
                <TableCell>{d.flags.map(visible).join('; ')}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </TableContainer>
      {devices.length > rows && (
        <Button variant="outlined" onClick={onMore} sx={{ alignSelf: 'flex-start' }}>
          Show more of {count(devices.length, 'device')}
        </Button>
      )}
    </>
  );
}
