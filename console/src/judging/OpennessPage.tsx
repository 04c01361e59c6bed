import { Box, Button, Link, MenuItem, Stack, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { useAddress } from '../app/address';
import { Within } from '../app/Loaded';
import { Empty, Page, Panel, Tag } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useSiteId } from '../app/queries';
import { DeviceLink } from '../devices/DeviceLink';
import { kindLabel } from '../devices/kinds';
import { count, number, visible } from '../lib/format';
import { words } from './words';

type State = Schema['DeviceOpenness']['state'];

const states: State[] = ['open', 'own', 'closed'];
const stateSays: Record<State, string> = { open: words.overAnOpenProtocol, own: words.inTheirMakersOwnWays, closed: words.notAtAllAGateway };
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
    queryKey: keys.openness(site, { system, state }),
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/openness', { params: { path: { site }, query: { system, state } } })),
  });
  const csv = new URLSearchParams({ ...(system && { system }), ...(state && { state }) });
  return (
    <Page
      title={words.openness}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          <TextField
            select
            size="small"
            label={words.canBeRead}
            value={state ?? ''}
            onChange={(e) => set({ state: e.target.value, rows: undefined })}
            sx={{ minWidth: 230 }}
            slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}
          >
            <MenuItem value="">{words.any}</MenuItem>
            {states.map((s) => (
              <MenuItem key={s} value={s}>
                {s}: {stateSays[s]}
              </MenuItem>
            ))}
          </TextField>
          {system && (
            <Button variant="outlined" onClick={() => set({ system: undefined, rows: undefined })}>
              {visible(system)} {words.onlyShowAll}
            </Button>
          )}
          <Button startIcon={<Icon of={icons.download} />} href={`/api/v1/sites/${site}/openness.csv?${csv.toString()}`} download="openness.csv">
            {words.csv}
          </Button>
        </Stack>
      }
    >
      <Within query={openness}>
        {(data) =>
          data.systems.length > 0 ? (
            <>
              <Systems systems={data.systems} onSystem={(name) => set({ system: name, rows: undefined })} />
              <Devices devices={data.devices} rows={rows} onMore={() => set({ rows: String(rows + 200) })} />
            </>
          ) : (
            <Panel>
              <Empty title={words.noDeviceOfABuildings}>{words.controllersMetersLightsDoorsAnd}</Empty>
            </Panel>
          )
        }
      </Within>
    </Page>
  );
}

function Systems({ systems, onSystem }: { systems: Schema['SystemOpenness'][]; onSystem: (name: string) => void }) {
  return (
    <Panel>
      <SmallTable
        label={words.systems}
        rows={systems}
        rowKey={(s) => s.system}
        columns={[
          {
            head: words.system,
            cell: (s) => (
              <Link component="button" type="button" onClick={() => onSystem(s.system)} title={words.only(s.system)} sx={{ whiteSpace: 'nowrap' }}>
                {visible(s.system)}
              </Link>
            ),
          },
          { head: words.devices, right: true, cell: (s) => s.devices },
          { head: words.openOwnClosed, cell: (s) => <Shares system={s} /> },
          { head: words.points, right: true, line: true, cell: (s) => (s.counted > 0 ? words.of(number(s.points), count(s.counted, 'device')) : words.notCounted) },
          {
            head: words.openProtocols,
            cell: (s) => (
              <Stack direction="row" spacing={0.75} useFlexGap sx={{ flexWrap: 'wrap' }}>
                {s.protocols.map((p) => (
                  <Tag key={p.protocol}>{`${visible(p.protocol)} × ${p.devices}`}</Tag>
                ))}
              </Stack>
            ),
          },
        ]}
      />
    </Panel>
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
      <Typography variant="body2" sx={{ whiteSpace: 'nowrap' }}>
        {parts.map((p) => `${p.n} ${p.state}`).join(', ')}
      </Typography>
    </Stack>
  );
}

function Devices({ devices, rows, onMore }: { devices: Schema['DeviceOpenness'][]; rows: number; onMore: () => void }) {
  if (devices.length === 0) {
    return (
      <Panel>
        <Empty title={words.noDeviceIsLikeThis} />
      </Panel>
    );
  }
  return (
    <>
      <Panel>
        <SmallTable
          label={words.devices}
          rows={devices.slice(0, rows)}
          rowKey={(d) => d.device}
          columns={[
            {
              head: words.device,
              cell: (d) => <DeviceLink device={d.device} name={d.name} addr={d.addr} />,
            },
            { head: words.address, cell: (d) => d.addr },
            { head: words.system, cell: (d) => visible(d.system) },
            { head: words.kind, cell: (d) => kindLabel(d.kind) },
            { head: words.model, cell: (d) => visible(d.model ?? '') },
            { head: words.canBeRead, cell: (d) => <Tag tone={stateColours[d.state]}>{d.state}</Tag> },
            { head: words.over, cell: (d) => d.protocols.map(visible).join(', ') },
            { head: words.points, right: true, cell: (d) => (d.points === undefined ? '' : number(d.points)) },
            { head: words.flags, cell: (d) => d.flags.map(visible).join('; ') },
          ]}
        />
      </Panel>
      {devices.length > rows && (
        <Button variant="outlined" onClick={onMore} sx={{ alignSelf: 'flex-start' }}>
          {words.showMoreOf} {count(devices.length, 'device')}
        </Button>
      )}
    </>
  );
}
