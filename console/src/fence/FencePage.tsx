import AddIcon from '@mui/icons-material/AddOutlined';
import { Alert, Button, Stack, Table, TableBody, TableCell, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { useNavigate } from 'react-router';

import { answer, api, type Fence, type Schema } from '../api/client';
import { DeviceText, Empty, Failure, FormDialog, Loading, Page, Panel, RemoveButton, Scrolling } from '../app/parts';
import { useMay, useSiteId, useSites } from '../app/queries';
import { visible } from '../lib/format';

/** Where the site may be swept, and how full its networks are. */
export function FencePage() {
  const site = useSiteId();
  const fence = useQuery({
    queryKey: ['fence', site],
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/fence', { params: { path: { site } } })),
  });
  const may = useMay('administer');
  return (
    <Page title="Fence">
      <Typography color="textSecondary">
        The networks this site may be swept in. Outside them nothing is ever sent a packet, whatever a table or a name server says.
      </Typography>
      <Failure failure={fence.error} />
      {fence.isPending && <Loading />}
      {fence.data && (
        <>
          <Networks site={site} fence={fence.data} may={may} />
          {may && <AddNetwork site={site} />}
          <NameServers key={fence.data.nameServers.join()} site={site} fence={fence.data} may={may} />
        </>
      )}
      {may && <SiteItself key={site} site={site} />}
      {!may && <Alert severity="info">To change the fence takes the role administer.</Alert>}
    </Page>
  );
}

/** Reads everything anew that a change of the fence shows in. */
function useFenceChanged() {
  const queries = useQueryClient();
  return async () => {
    for (const key of ['fence', 'sites', 'overview']) await queries.invalidateQueries({ queryKey: [key] });
  };
}

function Networks({ site, fence, may }: { site: number; fence: Fence; may: boolean }) {
  const changed = useFenceChanged();
  const remove = useMutation({
    mutationFn: (subnet: string) => answer(api.DELETE('/api/v1/sites/{site}/networks', { params: { path: { site }, query: { subnet } } })),
    onSuccess: changed,
  });
  return (
    <Panel title="Networks">
      <Failure failure={remove.error} />
      {fence.networks.length === 0 ? (
        <Empty title="No network yet">The site cannot be swept before it has one.</Empty>
      ) : (
        <Scrolling>
          <Table size="small" aria-label="Networks of the fence">
            <TableHead>
              <TableRow>
                <TableCell>Name</TableCell>
                <TableCell>Subnet</TableCell>
                <TableCell align="right">Addresses</TableCell>
                <TableCell align="right">Held</TableCell>
                <TableCell>Next free</TableCell>
                {may && <TableCell>Change</TableCell>}
              </TableRow>
            </TableHead>
            <TableBody>
              {fence.networks.map((n) => (
                <TableRow key={n.subnet}>
                  <TableCell>{visible(n.name)}</TableCell>
                  <TableCell>
                    <DeviceText>{n.subnet}</DeviceText>
                  </TableCell>
                  <TableCell align="right">{n.addresses}</TableCell>
                  <TableCell align="right">{n.held}</TableCell>
                  <TableCell>
                    <DeviceText>{n.nextFree ?? 'none'}</DeviceText>
                  </TableCell>
                  {may && (
                    <TableCell>
                      <RemoveButton
                        label={`Take ${n.subnet} out of the fence`}
                        says={`Take ${n.subnet} out of the fence; what was seen there stays`}
                        onRemove={() => remove.mutate(n.subnet)}
                      />
                    </TableCell>
                  )}
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Scrolling>
      )}
      {fence.public.length > 0 && <Typography sx={{ mt: 1 }}>Public networks that the service’s settings permit: {fence.public.join(', ')}</Typography>}
    </Panel>
  );
}

/** The name of the site, and its end. */
function SiteItself({ site }: { site: number }) {
  const known = useSites().data?.find((s) => s.id === site);
  const [name, setName] = useState<string>();
  const [typed, setTyped] = useState<string>();
  const [keeping, setKeeping] = useState<Schema['Keeping']>();
  const changed = useFenceChanged();
  const keep = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/keeping', { params: { path: { site } }, body: keeping ?? { days: 0, weeklyDays: 0 } })),
    onSuccess: async () => {
      setKeeping(undefined);
      await changed();
    },
  });
  const navigate = useNavigate();
  const rename = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/name', { params: { path: { site } }, body: { name: name ?? '' } })),
    onSuccess: async () => {
      setName(undefined);
      await changed();
    },
  });
  const remove = useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/sites/{site}', { params: { path: { site }, query: { name: typed ?? '' } } })),
    onSuccess: async () => {
      await changed();
      await navigate('/');
    },
  });
  if (!known) return null;
  return (
    <Panel title="The site itself">
      <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap' }}>
        <Button variant="outlined" onClick={() => setName(known.name)}>
          Rename the site
        </Button>
        <Button variant="outlined" onClick={() => setKeeping(known.keeping)}>
          {known.keeping.days ? `Evidence kept for ${known.keeping.days} days` : 'All evidence is kept'}
        </Button>
        <Button color="error" onClick={() => setTyped('')}>
          Delete the site
        </Button>
      </Stack>
      {name !== undefined && (
        <FormDialog title="Rename the site" does="Rename" failure={rename.error} busy={rename.isPending} onSubmit={() => rename.mutate()} onClose={() => setName(undefined)}>
          <TextField label="New name of the site" required autoFocus value={name} onChange={(e) => setName(e.target.value)} />
        </FormDialog>
      )}
      {keeping !== undefined && (
        <FormDialog title="For how long evidence is kept" does="Keep it so" failure={keep.error} busy={keep.isPending} onSubmit={() => keep.mutate()} onClose={() => setKeeping(undefined)}>
          <Typography color="textSecondary">What sweeps saw goes in time; what came of it, the history of devices, stays. So does the evidence of sweeps that are pinned.</Typography>
          <TextField label="All of it for so many days" type="number" value={keeping.days} onChange={(e) => setKeeping({ ...keeping, days: Number(e.target.value) || 0 })} helperText="0 keeps it for good" />
          <TextField label="Then of one sweep a week up to so many days" type="number" value={keeping.weeklyDays} onChange={(e) => setKeeping({ ...keeping, weeklyDays: Number(e.target.value) || 0 })} helperText="And behind them of one a month" />
        </FormDialog>
      )}
      {typed !== undefined && (
        <FormDialog title="Delete the site" does="Delete it for good" failure={remove.error} busy={remove.isPending} onSubmit={() => remove.mutate()} onClose={() => setTyped(undefined)}>
          <Alert severity="warning">
            Everything that was ever seen and said at {visible(known.name)} goes: sweeps, devices, register, decisions, credentials. Only a backup brings it back.
          </Alert>
          <TextField label={`Type ${visible(known.name)}`} required autoFocus value={typed} onChange={(e) => setTyped(e.target.value)} />
        </FormDialog>
      )}
    </Panel>
  );
}

function AddNetwork({ site }: { site: number }) {
  const [name, setName] = useState('');
  const [subnet, setSubnet] = useState('');
  const changed = useFenceChanged();
  const add = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/sites/{site}/networks', { params: { path: { site } }, body: { name, subnet } })),
    onSuccess: async () => {
      setName('');
      setSubnet('');
      await changed();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    add.mutate();
  };
  return (
    <Panel title="Widen the fence">
      <Stack component="form" onSubmit={submit} spacing={2}>
        <Stack direction={{ xs: 'column', sm: 'row' }} spacing={2} sx={{ alignItems: { sm: 'start' } }}>
          <TextField size="small" label="Subnet" required value={subnet} onChange={(e) => setSubnet(e.target.value)} helperText="CIDR prefix, such as 10.40.2.0/24" />
          <TextField size="small" label="Network’s name" value={name} onChange={(e) => setName(e.target.value)} helperText="such as plant" />
          <Button type="submit" variant="contained" startIcon={<AddIcon />} loading={add.isPending}>
            Add the network
          </Button>
        </Stack>
        <Failure failure={add.error} />
      </Stack>
    </Panel>
  );
}

function NameServers({ site, fence, may }: { site: number; fence: Fence; may: boolean }) {
  const [text, setText] = useState(fence.nameServers.join(', '));
  const changed = useFenceChanged();
  const set = useMutation({
    mutationFn: () =>
      answer(
        api.PUT('/api/v1/sites/{site}/name-servers', {
          params: { path: { site } },
          body: { addresses: text.split(/[\s,;]+/).filter(Boolean) },
        }),
      ),
    onSuccess: changed,
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    set.mutate();
  };
  return (
    <Panel title="Name servers">
      <Stack component="form" onSubmit={submit} spacing={2}>
        <Stack direction={{ xs: 'column', sm: 'row' }} spacing={2} sx={{ alignItems: { sm: 'start' } }}>
          <TextField
            size="small"
            label="Addresses"
            value={text}
            onChange={(e) => setText(e.target.value)}
            disabled={!may}
            helperText="Asked for the names of addresses, where they lie within the fence. Empty: those of the machine."
            sx={{ flex: '1 1 320px', maxWidth: 520 }}
          />
          {may && (
            <Button type="submit" variant="outlined" loading={set.isPending}>
              Keep
            </Button>
          )}
        </Stack>
        <Failure failure={set.error} />
      </Stack>
    </Panel>
  );
}
