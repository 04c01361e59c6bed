import { Alert, Button, Chip, Stack, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { useState, type SubmitEvent } from 'react';
import { useSearchParams } from 'react-router';

import { answer, api, type Vantage } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { Within } from '../app/Loaded';
import { DeviceText, Empty, Failure, Page, Pairs, Panel } from '../app/parts';
import { useSiteId } from '../app/queries';
import { words } from './words';

/** What sweeps stand on: this machine's interfaces, their rights, and whether an address can be reached. */
export function FootingPage() {
  const vantages = useQuery({ queryKey: keys.vantages, queryFn: async () => (await answer(api.GET('/api/v1/vantages'))).items });
  return (
    <Page title={words.footing}>
      <Typography color="textSecondary">{words.whatTheMachineOfThe}</Typography>
      <Reach />
      <Within query={vantages}>
        {(list) =>
          list.length > 0 ? (
            list.map((v) => <VantagePanel key={v.name} v={v} />)
          ) : (
            <Panel>
              <Empty title={words.noInterfaceHasAnAddress}>{words.checkTheCableAndWhether}</Empty>
            </Panel>
          )
        }
      </Within>
    </Page>
  );
}

/** Asks whether an address can be reached from here, and why not. The address bar keeps the question. */
function Reach() {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const address = params.get('address') ?? '';
  const [typed, setTyped] = useState(address);
  const reach = useQuery({
    queryKey: keys.reach(site, address),
    queryFn: async () => (await answer(api.GET('/api/v1/reach', { params: { query: { address, site } } }))).items,
    enabled: address !== '',
    retry: false,
  });
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    setParams(typed.trim() ? { address: typed.trim() } : {}, { replace: true });
  };
  return (
    <Panel title={words.canAnAddressBeReached}>
      <Stack spacing={2}>
        <Stack component="form" direction={{ xs: 'column', sm: 'row' }} spacing={2} onSubmit={submit} sx={{ alignItems: { sm: 'start' } }}>
          <TextField size="small" label={words.address} value={typed} onChange={(e) => setTyped(e.target.value)} helperText={words.nothingIsSentThisIs} />
          <Button type="submit" variant="outlined" loading={reach.isFetching}>
            {words.tellMe}
          </Button>
        </Stack>
        <Failure failure={reach.error} />
        {reach.data?.map((r) => (
          <Alert key={r.vantage} severity={r.onLink ? 'success' : r.by ? 'info' : 'warning'}>
            <strong>{r.vantage}</strong>: {r.verdict}
          </Alert>
        ))}
      </Stack>
    </Panel>
  );
}

function VantagePanel({ v }: { v: Vantage }) {
  const text = (list: string[]) => list.length > 0 && <DeviceText>{list.join(', ')}</DeviceText>;
  return (
    <Panel title={v.name}>
      <Stack spacing={2}>
        <Pairs
          pairs={[
            [words.addresses, text(v.prefixes) || 'none'],
            [words.mask, text(v.masks.filter(Boolean))],
            [words.gateway, v.gateway || v.gateway6 ? text([v.gateway ?? '', v.gateway6 ?? ''].filter(Boolean)) : words.noneOnlyItsOwnSubnets],
            [words.nameServers, text(v.nameServers) || 'none'],
            ['MAC', v.mac ? <DeviceText>{v.mac}</DeviceText> : 'none'],
          ]}
        />
        <Stack direction="row" spacing={1} sx={{ flexWrap: 'wrap', rowGap: 1 }}>
          <Right has={v.rights.frames} says={words.framesArpNeighbourDiscoveryHearing} />
          <Right has={v.rights.echo} says={words.echoRequests} />
          <Right has={v.rights.neighbours} says={words.tableOfNeighbours} />
        </Stack>
        {v.rights.missing.map((m) => (
          <Alert key={m} severity="warning">
            {m}
          </Alert>
        ))}
      </Stack>
    </Panel>
  );
}

function Right({ has, says }: { has: boolean; says: string }) {
  return (
    <Chip
      size="small"
      variant="outlined"
      color={has ? 'success' : 'warning'}
      icon={has ? <Icon of={icons.check} title={words.permitted} /> : <Icon of={icons.block} title={words.notPermitted} />}
      label={says}
    />
  );
}
