import { Box, MenuItem, Stack, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { useAddress } from '../app/address';
import { keys } from '../app/keys';
import { Within } from '../app/Loaded';
import { Empty, Page, Panel } from '../app/parts';
import { useOverview, useSiteId } from '../app/queries';
import { SmallTable } from '../app/SmallTable';
import { visible } from '../lib/format';
import { words } from './words';

type Picture = Schema['AddressPicture'];
type State = Schema['AddressCell']['state'];

/** How a state looks: a fill or a pattern, so that none is told by its colour alone. */
const looks: Record<State, object> = {
  seen: { bgcolor: 'primary.main', borderColor: 'primary.main' },
  conflict: { bgcolor: 'error.main', borderColor: 'error.main', clipPath: 'polygon(50% 0, 100% 100%, 0 100%)' },
  silent: { borderColor: 'primary.main', backgroundImage: 'repeating-linear-gradient(45deg, currentColor 0 2px, transparent 2px 5px)', color: 'primary.main' },
  register: { borderColor: 'secondary.main', borderWidth: 3 },
  dynamic: { bgcolor: 'action.selected' },
  free: {},
};
const states: State[] = ['seen', 'conflict', 'silent', 'register', 'dynamic', 'free'];

/** What is at each address of a network, as a picture and as a table. */
export function AddressesPage() {
  const site = useSiteId();
  const [params, set] = useAddress();
  const overview = useOverview(site);
  const networks = (overview.data?.site.networks ?? []).filter((n) => !n.subnet.includes(':'));
  const subnet = params.get('subnet') ?? networks[0]?.subnet;
  const picture = useQuery({
    queryKey: keys.addresses(site, subnet ?? ''),
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/addresses', { params: { path: { site }, query: { subnet: subnet ?? '' } } })),
    enabled: subnet !== undefined,
  });
  return (
    <Page
      title={words.addresses}
      actions={
        <TextField
          select
          size="small"
          label={words.network}
          value={networks.some((n) => n.subnet === subnet) ? subnet : ''}
          onChange={(e) => set({ subnet: e.target.value })}
          sx={{ minWidth: 220 }}
        >
          {networks.map((n) => (
            <MenuItem key={n.subnet} value={n.subnet}>
              {visible(n.name)} {n.subnet}
            </MenuItem>
          ))}
        </TextField>
      }
    >
      {networks.length === 0 && overview.data ? (
        <Empty title={words.noNetworks}>{words.noNetworksOfIPv4}</Empty>
      ) : (
        <Within query={picture}>{(p) => <Cells picture={p} site={site} />}</Within>
      )}
    </Page>
  );
}

function Cells({ picture: p, site }: { picture: Picture; site: number }) {
  const count = (state: State) => p.cells.filter((c) => c.state === state).length;
  const cells = p.cells.map((cell, i) => ({ ...cell, address: addressAt(p.first, i * p.block) }));
  const held = cells.filter((c) => c.device !== undefined);
  return (
    <>
      <Panel>
        <Stack direction="row" spacing={2} useFlexGap sx={{ flexWrap: 'wrap', mb: 1.5 }}>
          {states.map((state) => (
            <Stack key={state} direction="row" spacing={0.75} sx={{ alignItems: 'center' }}>
              <Box sx={{ width: 16, height: 16, border: 1, borderColor: 'divider', ...looks[state] }} />
              <span>
                {words.states[state]} {count(state)}
              </span>
            </Stack>
          ))}
        </Stack>
        {p.block > 1 && <Typography variant="body2">{words.oneCellIs(p.block)}</Typography>}
        <Box aria-hidden sx={{ display: 'grid', gridTemplateColumns: { xs: 'repeat(16, 1fr)', sm: 'repeat(32, 1fr)' }, gap: '3px', maxWidth: 960 }}>
          {cells.map((c) => {
            const look = { aspectRatio: '1', border: 1, borderColor: 'divider', display: 'block', ...looks[c.state] };
            const title = `${c.address} ${words.states[c.state]}`;
            return c.device === undefined ? (
              <Box key={c.address} title={title} sx={look} />
            ) : (
              <Box key={c.address} component={Link} to={`/sites/${site}/devices/${c.device}`} tabIndex={-1} title={title} sx={{ ...look, '&:hover': { outline: '2px solid' } }} />
            );
          })}
        </Box>
      </Panel>
      <Panel title={words.sameAsTable}>
        <SmallTable
          label={words.sameAsTable}
          rows={held}
          rowKey={(c) => c.address}
          columns={[
            {
              head: words.address,
              cell: (c) => (
                <Link className="link" to={`/sites/${site}/devices/${c.device ?? 0}`}>
                  {c.address}
                </Link>
              ),
            },
            { head: words.state, cell: (c) => words.states[c.state] },
          ]}
        />
      </Panel>
    </>
  );
}

/** Gives the address so many behind an IPv4 address. */
function addressAt(first: string, behind: number): string {
  const number = first.split('.').reduce((sum, part) => sum * 256 + Number(part), 0) + behind;
  return [24, 16, 8, 0].map((shift) => Math.floor(number / 2 ** shift) % 256).join('.');
}
