import { Alert, Button, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState, type SubmitEvent } from 'react';

import { answer, api, type Fence } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys, useOutdated } from '../app/keys';
import { Within } from '../app/Loaded';
import { DeleteButton } from '../app/Dialogs';
import { DeviceText, Empty, Failure, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useMay, useSiteId } from '../app/queries';
import { visible } from '../lib/format';
import { SiteItself } from './SiteItself';
import { words } from './words';

/** Where the site may be swept, and how full its networks are. */
export function FencePage() {
  const site = useSiteId();
  const fence = useQuery({
    queryKey: keys.fence(site),
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/fence', { params: { path: { site } } })),
  });
  const may = useMay('administer');
  return (
    <Page title={words.fence}>
      <Typography color="textSecondary">{words.theNetworksThisSiteMay}</Typography>
      <Within query={fence}>
        {(known) => (
          <>
            <Networks site={site} fence={known} may={may} />
            {may && <AddNetwork site={site} />}
            <NameServers key={known.nameServers.join()} site={site} fence={known} may={may} />
          </>
        )}
      </Within>
      {may && <SiteItself key={site} site={site} />}
      {!may && <Alert severity="info">{words.changingTheFenceNeeds}</Alert>}
    </Page>
  );
}

/** Reads everything anew that a change of the fence shows in. */
function useFenceChanged() {
  const outdated = useOutdated();
  return () => outdated('fence', 'sites', 'overview');
}

function Networks({ site, fence, may }: { site: number; fence: Fence; may: boolean }) {
  const changed = useFenceChanged();
  const remove = useMutation({
    mutationFn: (subnet: string) => answer(api.DELETE('/api/v1/sites/{site}/networks', { params: { path: { site }, query: { subnet } } })),
    onSuccess: changed,
  });
  return (
    <Panel title={words.networks}>
      <Failure failure={remove.error} />
      {fence.networks.length === 0 ? (
        <Empty title={words.noNetworkYet}>{words.theSiteCannotBeSwept}</Empty>
      ) : (
        <SmallTable
          label={words.networksOfTheFence}
          rows={fence.networks}
          rowKey={(n) => n.subnet}
          columns={[
            { head: words.name, cell: (n) => visible(n.name) },
            { head: words.subnet, cell: (n) => <DeviceText>{n.subnet}</DeviceText> },
            { head: words.addresses, right: true, cell: (n) => n.addresses },
            { head: words.held, right: true, cell: (n) => n.held },
            { head: words.nextFree, cell: (n) => <DeviceText>{n.nextFree ?? words.none}</DeviceText> },
            may && {
              head: words.change,
              cell: (n) => <DeleteButton label={words.deleteFromTheFence(n.subnet)} says={words.theNetworkIsNoLonger} onDelete={() => remove.mutate(n.subnet)} />,
            },
          ]}
        />
      )}
      {fence.public.length > 0 && (
        <Typography sx={{ mt: 1 }}>
          {words.publicNetworksThatTheServices} {fence.public.join(', ')}
        </Typography>
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
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    add.mutate();
  };
  return (
    <Panel title={words.widenTheFence}>
      <Stack component="form" onSubmit={submit} spacing={2}>
        <Stack direction={{ xs: 'column', sm: 'row' }} spacing={2} sx={{ alignItems: { sm: 'start' } }}>
          <TextField size="small" label={words.subnet} required value={subnet} onChange={(e) => setSubnet(e.target.value)} helperText={words.cidrPrefixSuchAs10} />
          <TextField size="small" label={words.networksName} value={name} onChange={(e) => setName(e.target.value)} helperText={words.suchAsPlant} />
          <Button type="submit" variant="contained" startIcon={<Icon of={icons.add} />} loading={add.isPending}>
            {words.addTheNetwork}
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
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    set.mutate();
  };
  return (
    <Panel title={words.nameServers}>
      <Stack component="form" onSubmit={submit} spacing={2}>
        <Stack direction={{ xs: 'column', sm: 'row' }} spacing={2} sx={{ alignItems: { sm: 'start' } }}>
          <TextField
            size="small"
            label={words.addresses}
            value={text}
            onChange={(e) => setText(e.target.value)}
            disabled={!may}
            helperText={words.askedForTheNamesOf}
            sx={{ flex: '1 1 320px', maxWidth: 520 }}
          />
          {may && (
            <Button type="submit" variant="outlined" loading={set.isPending}>
              {words.save}
            </Button>
          )}
        </Stack>
        <Failure failure={set.error} />
      </Stack>
    </Panel>
  );
}
