import { Alert, Box, Button, Drawer, Grid, Stack, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams } from 'react-router';

import { answer, api, type Device } from '../api/client';
import { keys } from '../app/keys';
import { Loaded } from '../app/Loaded';
import { Page, StandingTag, Tag } from '../app/parts';
import { useMay } from '../app/queries';
import { moment, visible } from '../lib/format';
import { DeviceFindings } from '../findings/DeviceFindings';
import { AskAgain } from '../sweeps/Check';
import { Claims, guess } from './Claims';
import { Decisions } from './Decisions';
import { Certificates, Interfaces, Names, Parts, Reasons, RegisterPanel } from './Details';
import { Actions } from './DeviceActions';
import { usePhone } from './DeviceList';
import { DeviceTimes } from './DeviceTimes';
import { Evidence } from './Evidence';
import { History } from './History';
import { KindIcon } from './kinds';
import { LifeLine } from './LifeLine';
import { Ports } from './Ports';
import { Tenures } from './Tenures';
import { traitMeanings } from './traits';
import { Whereabouts } from './Whereabouts';
import { words } from './words';

/** All that is known of one device, and why it is believed. */
export function DevicePage() {
  const id = Number(useParams().device);
  const device = useQuery({
    queryKey: keys.device(id),
    queryFn: () => answer(api.GET('/api/v1/devices/{device}', { params: { path: { device: id } } })),
  });
  return (
    <Loaded title={words.device} query={device}>
      {(d) => <Shown key={d.id} d={d} />}
    </Loaded>
  );
}

function Shown({ d }: { d: Device }) {
  const phone = usePhone();
  const may = useMay('sweep');
  return (
    <Page title={<Title d={d} />} actions={!phone && <Actions d={d} />}>
      <Warnings d={d} />
      {!phone && may && <AskAgain site={d.site} addresses={d.addresses} />}
      {phone ? <OnPhone d={d} /> : <OnDesk d={d} />}
      {phone && may && <ThumbBar d={d} />}
    </Page>
  );
}

function Title({ d }: { d: Device }) {
  const best = guess(d.claims.find((c) => c.attribute === 'kind'));
  return (
    <Stack direction="row" spacing={1.5} useFlexGap sx={{ alignItems: 'center', flexWrap: 'wrap', overflowWrap: 'anywhere' }}>
      <KindIcon kind={d.kind} />
      <span>{visible(d.name || d.addresses.join(', ') || d.mac || words.deviceNumber(d.id))}</span>
      <StandingTag standing={d.standing} />
      <Tag>{d.presence}</Tag>
      {best && (
        <Typography component="span" color="textSecondary">
          {words.perhaps} {best}
        </Typography>
      )}
    </Stack>
  );
}

/** What is needed first comes first: where it is, how it is opened, its ports; why it is believed is folded. */
function OnPhone({ d }: { d: Device }) {
  return (
    <Stack spacing={2}>
      <Whereabouts d={d} />
      <Ports d={d} />
      <DeviceFindings site={d.site} device={d.id} />
      <Claims d={d} folded />
      <Told d={d} />
      <Said d={d} />
      <Evidence d={d} />
    </Stack>
  );
}

function OnDesk({ d }: { d: Device }) {
  return (
    <Grid container spacing={2}>
      <Grid size={{ xs: 12, md: 5 }}>
        <Stack spacing={2}>
          <Whereabouts d={d} />
          <DeviceFindings site={d.site} device={d.id} />
          <Said d={d} />
        </Stack>
      </Grid>
      <Grid size={{ xs: 12, md: 7 }}>
        <Stack spacing={2}>
          <Claims d={d} folded={false} />
          <Told d={d} />
          <Ports d={d} />
          <Evidence d={d} />
        </Stack>
      </Grid>
    </Grid>
  );
}

/** What the device tells of itself beside what it is. */
function Told({ d }: { d: Device }) {
  return (
    <>
      {d.interfaces.length > 0 && <Interfaces d={d} />}
      {d.parts.length > 0 && <Parts d={d} />}
      {d.certificates.length > 0 && <Certificates d={d} />}
      <DeviceTimes d={d} />
    </>
  );
}

/** What others say of it, and what became of it over time. */
function Said({ d }: { d: Device }) {
  return (
    <>
      {d.names.length > 1 && <Names d={d} />}
      <RegisterPanel d={d} />
      <Decisions d={d} />
      <LifeLine d={d} />
      <Tenures d={d} />
      <History d={d} />
      {d.reasons.length > 0 && <Reasons reasons={d.reasons} />}
    </>
  );
}

/** What can be done with the device, where a thumb reaches it. */
function ThumbBar({ d }: { d: Device }) {
  const [open, setOpen] = useState(false);
  return (
    <Box sx={{ position: 'sticky', bottom: 64, zIndex: 2, bgcolor: 'background.paper', border: 1, borderColor: 'divider', borderRadius: 2, p: 1, '& button': { minHeight: 44 } }}>
      <AskAgain site={d.site} addresses={d.addresses}>
        <Button variant="outlined" onClick={() => setOpen(true)}>
          {words.actions}
        </Button>
      </AskAgain>
      <Drawer anchor="bottom" open={open} onClose={() => setOpen(false)} slotProps={{ paper: { role: 'dialog', 'aria-label': words.actions } }}>
        <Box sx={{ p: 2, '& button': { minHeight: 44 } }}>
          <Actions d={d} />
        </Box>
      </Drawer>
    </Box>
  );
}

function Warnings({ d }: { d: Device }) {
  return (
    <>
      {d.sharedAddresses.length > 0 && (
        <Alert severity="warning">
          {words.anotherDeviceAnswersAt} {d.sharedAddresses.join(', ')} {words.tooTwoDevicesOnOne}
        </Alert>
      )}
      {d.traits.map((t) => (
        <Alert key={t} severity={t === 'own machine' ? 'info' : 'warning'}>
          {traitMeanings[t] ?? t}
        </Alert>
      ))}
      {d.aside && (
        <Alert severity="info">
          {words.setAsideBy} {d.aside.by}, {moment(d.aside.at)}: {visible(d.aside.reason)}
        </Alert>
      )}
    </>
  );
}
