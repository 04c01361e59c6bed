import CheckIcon from '@mui/icons-material/CheckOutlined';
import MissingIcon from '@mui/icons-material/BlockOutlined';
import { Alert, Button, Chip, Stack, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { useSearchParams } from 'react-router';

import { answer, api, type Vantage } from '../api/client';
import { DeviceText, Empty, Failure, Loading, Page, Pairs, Panel } from '../app/parts';
import { useSiteId } from '../app/queries';

/** What sweeps stand on: this machine's interfaces, their rights, and whether an address can be reached. */
export function FootingPage() {
  const vantages = useQuery({ queryKey: ['vantages'], queryFn: async () => (await answer(api.GET('/api/v1/vantages')))?.items ?? [] });
  return (
    <Page title="Footing">
      <Typography color="textSecondary">
        What the machine of the service stands on. Half of all devices that cannot be found are looked for from the wrong interface.
      </Typography>
      <Reach />
      <Failure failure={vantages.error} />
      {vantages.isPending && <Loading />}
      {vantages.data?.length === 0 && (
        <Panel>
          <Empty title="No interface has an address">Check the cable, and whether this machine was given an address.</Empty>
        </Panel>
      )}
      {vantages.data?.map((v) => (
        <VantagePanel key={v.name} v={v} />
      ))}
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
    queryKey: ['reach', site, address],
    queryFn: async () => (await answer(api.GET('/api/v1/reach', { params: { query: { address, site } } })))?.items ?? [],
    enabled: address !== '',
    retry: false,
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    setParams(typed.trim() ? { address: typed.trim() } : {}, { replace: true });
  };
  return (
    <Panel title="Can an address be reached from here?">
      <Stack spacing={2}>
        <Stack component="form" direction={{ xs: 'column', sm: 'row' }} spacing={2} onSubmit={submit} sx={{ alignItems: { sm: 'start' } }}>
          <TextField size="small" label="Address" value={typed} onChange={(e) => setTyped(e.target.value)} helperText="Nothing is sent: this is read from what the machine stands on." />
          <Button type="submit" variant="outlined" loading={reach.isFetching}>
            Tell me
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
            ['Addresses', text(v.prefixes) || 'none'],
            ['Mask', text(v.masks.filter(Boolean))],
            ['Gateway', v.gateway || v.gateway6 ? text([v.gateway ?? '', v.gateway6 ?? ''].filter(Boolean)) : 'none: only its own subnets can be reached'],
            ['Name servers', text(v.nameServers) || 'none'],
            ['MAC', v.mac ? <DeviceText>{v.mac}</DeviceText> : 'none'],
          ]}
        />
        <Stack direction="row" spacing={1} sx={{ flexWrap: 'wrap', rowGap: 1 }}>
          <Right has={v.rights.frames} says="frames: ARP, neighbour discovery, hearing" />
          <Right has={v.rights.echo} says="echo requests" />
          <Right has={v.rights.neighbours} says="table of neighbours" />
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
      icon={has ? <CheckIcon titleAccess="permitted:" /> : <MissingIcon titleAccess="not permitted:" />}
      label={says}
    />
  );
}
