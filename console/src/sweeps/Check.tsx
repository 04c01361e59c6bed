import { Alert, Box, Button, LinearProgress, Link, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Sweep } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { FormDialog } from '../app/Dialogs';
import { DeviceText, Failure } from '../app/parts';
import { KindIcon, kindLabel } from '../devices/kinds';
import { visible } from '../lib/format';
import { useSweepEvents } from './useSweepEvents';
import { words } from './words';

/** Sweeps a few addresses alone, from the button to what came of it. */
export function useCheck(site: number) {
  return useMutation({
    mutationFn: (ranges: string) =>
      answer(api.POST('/api/v1/sites/{site}/sweeps', { params: { path: { site } }, body: { ranges, pace: 'steady', name: words.checkOf(ranges).slice(0, 200) } })),
  });
}

/** Asks a device again, and it alone; what comes of it is told as it comes. Beside the button stands what else can be done. */
export function AskAgain({ site, addresses, children }: { site: number; addresses: string[]; children?: ReactNode }) {
  const check = useCheck(site);
  const asked = addresses.filter((a) => !a.startsWith('fe80:')); // RFC 4291, 2.5.6: they mean somebody on one link alone
  return (
    <Box>
      <Stack direction="row" spacing={1} sx={{ justifyContent: 'space-between' }}>
        {asked.length > 0 && (
          <Button variant="contained" startIcon={<Icon of={icons.radar} />} loading={check.isPending} onClick={() => check.mutate(asked.join(', '))}>
            {words.checkItNow}
          </Button>
        )}
        {children}
      </Stack>
      {!check.isIdle && (
        <Box sx={{ mt: 1, maxHeight: '40vh', overflow: 'auto' }}>
          <Failure failure={check.error} />
          {check.data && <Outcome key={check.data.id} sweep={check.data} />}
        </Box>
      )}
    </Box>
  );
}

/** How far a check is, and at its end who answered. */
function Outcome({ sweep }: { sweep: Sweep }) {
  const watched = useSweepEvents(sweep.id, 0);
  const { progress, final } = watched;
  const page = (
    <Link component={RouterLink} to={`/sites/${sweep.site}/sweeps/${sweep.id}`}>
      {words.sweep} {sweep.id}
    </Link>
  );
  if (!final) {
    return (
      <Box role="status">
        <Typography variant="body2">
          {watched.broken ? words.connectionLostReconnecting : (progress?.stage ?? words.beginning)} … {page}
        </Typography>
        <LinearProgress aria-label={words.progressOfTheCheck} />
      </Box>
    );
  }
  const answered = final.state === 'done' ? words.ofAnswered(final.answered, final.addresses) : `${final.state}: ${final.failure ?? words.notAllWasAsked}`;
  return (
    <Alert severity={final.answered > 0 ? 'success' : 'warning'} role="status">
      {answered}, {final.moved} {words.moved} {final.changed} {words.changed} {page}
      <Answering sweep={final} />
    </Alert>
  );
}

/** How many of those who answered a check shows. */
const manyShown = 20;

/** Who answered in a check, with the way to each device. */
function Answering({ sweep }: { sweep: Sweep }) {
  const seen = useQuery({
    queryKey: [...keys.sightings(sweep.id, false), 'first'],
    queryFn: () => answer(api.GET('/api/v1/sweeps/{sweep}/sightings', { params: { path: { sweep: sweep.id }, query: { limit: 1000 } } })),
  });
  // Others may have been overheard meanwhile.
  const single = sweep.ranges.split(/[\s,]+/).filter((part) => !/[-/]/.test(part));
  const answering = seen.data?.items.filter((s) => single.length === 0 || single.includes(s.addr)) ?? [];
  return (
    <Box component="ul" sx={{ listStyle: 'none', m: 0, p: 0 }}>
      {answering.slice(0, manyShown).map((s) => (
        <Box component="li" key={`${s.addr} ${s.mac} ${s.unit}`} sx={{ display: 'flex', gap: 1, alignItems: 'center', flexWrap: 'wrap' }}>
          <KindIcon kind={s.kind} />
          <Link component={RouterLink} to={`/sites/${sweep.site}/devices/${s.device}`}>
            <DeviceText>{[s.addr, s.unit].filter(Boolean).join(' ')}</DeviceText>
          </Link>
          {[kindLabel(s.kind), s.vendor, s.name]
            .filter(Boolean)
            .map((text) => visible(text ?? ''))
            .join(', ')}
        </Box>
      ))}
    </Box>
  );
}

/** Checks an address, or a few, from whatever page somebody is on. */
export function CheckDialog({ site, onClose }: { site: number; onClose: () => void }) {
  const [address, setAddress] = useState('');
  const check = useCheck(site);
  return (
    <FormDialog title={words.checkAnAddress} does={words.check} failure={check.error} busy={check.isPending} onSubmit={() => check.mutate(address)} onClose={onClose}>
      <TextField
        label={words.address}
        required
        autoFocus
        value={address}
        onChange={(e) => setAddress(e.target.value)}
        helperText={words.withinTheFenceSeveralWith}
        slotProps={{ htmlInput: { inputMode: 'text', autoCapitalize: 'none', spellCheck: false } }}
      />
      {check.data && <Outcome key={check.data.id} sweep={check.data} />}
    </FormDialog>
  );
}
