import { Alert, Box, Button, Chip, Grid, Link, Stack, Table, TableBody, TableCell, TableHead, TableRow, Tooltip, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink, useParams } from 'react-router';

import { answer, api, type Claim, type Device } from '../api/client';
import { DeviceText, Empty, Failure, Loading, Page, Pairs, Panel, Scrolling, StandingChip } from '../app/parts';
import { bytes, moment, odds, speed, visible } from '../lib/format';
import { Actions } from './DeviceActions';
import { Decisions } from './Decisions';
import { DeviceTimes } from './DeviceTimes';
import { LifeLine } from './LifeLine';
import { Tenures } from './Tenures';
import { KindIcon, kindLabel } from './kinds';
import { traitMeanings } from './traits';

/** All that is known of one device, and why it is believed. */
export function DevicePage() {
  const id = Number(useParams().device);
  const device = useQuery({
    queryKey: ['device', id],
    queryFn: () => answer(api.GET('/api/v1/devices/{device}', { params: { path: { device: id } } })),
  });
  if (device.isPending) return <Loading />;
  if (device.error) {
    return (
      <Page title="Device">
        <Failure failure={device.error} />
      </Page>
    );
  }
  return <Shown d={device.data} />;
}

function Shown({ d }: { d: Device }) {
  const title = d.name || d.addresses.join(', ') || d.mac || `Device ${d.id}`;
  return (
    <Page
      title={
        <Stack direction="row" spacing={1.5} sx={{ alignItems: 'center', flexWrap: 'wrap' }}>
          <KindIcon kind={d.kind} />
          <span>{visible(title)}</span>
          <StandingChip standing={d.standing} />
          <Chip size="small" label={d.presence} />
        </Stack>
      }
      actions={<Actions d={d} />}
    >
      <Warnings d={d} />
      <Grid container spacing={2}>
        <Grid size={{ xs: 12, md: 5 }}>
          <Stack spacing={2}>
            <Facts d={d} />
            {d.names.length > 1 && <Names d={d} />}
            {d.links.length > 0 && <Links d={d} />}
            {d.registerEntry && <RegisterPanel d={d} />}
            <Decisions d={d} />
            <LifeLine d={d} />
            <Tenures d={d} />
            <History d={d} />
            {d.reasons.length > 0 && <Reasons reasons={d.reasons} />}
          </Stack>
        </Grid>
        <Grid size={{ xs: 12, md: 7 }}>
          <Stack spacing={2}>
            <Claims claims={d.claims} settle={d.settle} />
            {d.interfaces.length > 0 && <Interfaces d={d} />}
            {d.parts.length > 0 && <Parts d={d} />}
            {d.certificates.length > 0 && <Certificates d={d} />}
            <Ports d={d} />
            <DeviceTimes d={d} />
          </Stack>
        </Grid>
      </Grid>
    </Page>
  );
}

function Warnings({ d }: { d: Device }) {
  return (
    <>
      {d.sharedAddresses.length > 0 && (
        <Alert severity="warning">
          Another device answers at {d.sharedAddresses.join(', ')} too. Two devices on one address disturb each other; give one of them another address.
        </Alert>
      )}
      {d.traits.map((t) => (
        <Alert key={t} severity={t === 'own machine' ? 'info' : 'warning'}>
          {traitMeanings[t] ?? t}
        </Alert>
      ))}
      {d.aside && (
        <Alert severity="info">
          Set aside by {d.aside.by}, {moment(d.aside.at)}: {visible(d.aside.reason)}
        </Alert>
      )}
    </>
  );
}

/** How many addresses of one device are shown before the rest is folded away. */
const fewAddresses = 6;

function Addresses({ list }: { list: string[] }) {
  const [all, setAll] = useState(list.length <= fewAddresses);
  return (
    <>
      <DeviceText>{(all ? list : list.slice(0, fewAddresses)).join(', ')}</DeviceText>
      {!all && (
        <Button size="small" onClick={() => setAll(true)} sx={{ ml: 1, p: 0 }}>
          and {list.length - fewAddresses} more
        </Button>
      )}
    </>
  );
}

function Facts({ d }: { d: Device }) {
  return (
    <Panel title="Where and when">
      <Pairs
        pairs={[
          ['Addresses', d.addresses.length > 0 && <Addresses list={d.addresses} />],
          ['Unit', d.unit],
          ['MAC', d.macs.length > 0 ? d.macs.map((m) => <MacLine key={m.mac} mac={m} />) : 'not visible from the vantage: the device is beyond a router'],
          ['Kind', kindLabel(d.kind)],
          ['First seen', moment(d.firstSeen) || 'never'],
          ['Last seen', moment(d.lastSeen) || 'never'],
          ['Note', d.note && <Box sx={{ whiteSpace: 'pre-wrap' }}>{visible(d.note)}</Box>],
        ]}
      />
    </Panel>
  );
}

function MacLine({ mac }: { mac: Device['macs'][number] }) {
  const remark = mac.shared ? 'a virtual router’s: several devices take turns at it' : mac.private ? 'private: chosen by the device, tells no maker' : mac.vendor || 'prefix not registered';
  return (
    <Box>
      <DeviceText>{mac.mac}</DeviceText>{' '}
      <Typography component="span" variant="body2" color="textSecondary">
        {visible(mac.former ? `formerly; ${remark}` : remark)}
      </Typography>
    </Box>
  );
}

/** Ways to open the device. Their addresses are made by the service of the device's address and port alone. */
function Links({ d }: { d: Device }) {
  return (
    <Panel title="Open it">
      <Stack component="ul" spacing={0.5} sx={{ m: 0, pl: 2.5 }}>
        {d.links.map((l) => (
          <li key={l.url}>
            <Link href={l.url} target="_blank" rel="noreferrer noopener">
              {l.title}
            </Link>
          </li>
        ))}
      </Stack>
    </Panel>
  );
}

function RegisterPanel({ d }: { d: Device }) {
  const e = d.registerEntry;
  if (!e) return null;
  const text = (value: string | undefined) => visible(value ?? '');
  return (
    <Panel title="In the register">
      <Pairs
        pairs={[
          ['Name', text(e.name)], ['Address', e.address], ['MAC', e.mac], ['Maker', text(e.vendor)], ['Model', text(e.model)], ['Kind', text(e.kind)],
          ['Location', text(e.location)], ['Responsible', text(e.responsible)], ['Remark', text(e.note)],
          ...Object.entries(e.extra ?? {}).map(([name, value]): [string, string] => [visible(name), visible(value)]), ['Matched by', d.matchedBy],
        ]}
      />
    </Panel>
  );
}

function History({ d }: { d: Device }) {
  const history = useQuery({
    queryKey: ['history', d.id],
    queryFn: async () => (await answer(api.GET('/api/v1/devices/{device}/history', { params: { path: { device: d.id } } })))?.items ?? [],
  });
  if (history.isSuccess && history.data.length === 0) return null;
  return (
    <Panel title="Seen">
      <Failure failure={history.error} />
      <Scrolling>
        <Table size="small" aria-label="When and where it was seen">
          <TableHead>
            <TableRow>
              <TableCell>Sweep</TableCell>
              <TableCell>At</TableCell>
              <TableCell>Address</TableCell>
              <TableCell align="right">Facts</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {history.data?.slice(0, 20).map((h) => (
              <TableRow key={`${h.sweep} ${h.addr} ${h.mac}`}>
                <TableCell>
                  <Link component={RouterLink} to={`/sites/${d.site}/sweeps/${h.sweep}`}>
                    {h.sweep}
                  </Link>
                </TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(h.at)}</TableCell>
                <TableCell>
                  <DeviceText>{h.addr}</DeviceText>
                </TableCell>
                <TableCell align="right">{h.facts}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
      <Button component={RouterLink} to={`/sites/${d.site}/changes?device=${d.id}`} sx={{ mt: 1, ml: -1 }}>
        What changed
      </Button>
    </Panel>
  );
}

/** How many reasons are shown before the rest is folded away. */
const fewReasons = 4;

function Reasons({ reasons }: { reasons: string[] }) {
  const [all, setAll] = useState(reasons.length <= fewReasons);
  return (
    <Panel title="Why this is one device">
      <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
        {(all ? reasons : reasons.slice(0, fewReasons)).map((r) => (
          <li key={r}>{r}</li>
        ))}
      </Box>
      {!all && (
        <Button size="small" onClick={() => setAll(true)}>
          and {reasons.length - fewReasons} more
        </Button>
      )}
    </Panel>
  );
}

function Claims({ claims, settle }: { claims: Claim[]; settle: string[] }) {
  const told = claims.filter((c) => c.candidates.length > 0);
  return (
    <Panel title="What it is believed to be">
      {told.length === 0 ? (
        <Typography color="textSecondary">Nothing that was seen tells what it is.</Typography>
      ) : (
        <Stack spacing={2}>
          {told.map((c) => (
            <ClaimBlock key={c.attribute} claim={c} />
          ))}
        </Stack>
      )}
      {settle.length > 0 && (
        <Box sx={{ mt: 2 }}>
          <Typography variant="h3">What would settle it</Typography>
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {settle.map((way) => (
              <li key={way}>{way}</li>
            ))}
          </Box>
        </Box>
      )}
    </Panel>
  );
}

function ClaimBlock({ claim }: { claim: Claim }) {
  const shown = claim.attribute === 'kind' ? kindLabel(claim.value) : claim.value || 'unknown';
  return (
    <Box>
      <Stack direction="row" spacing={1.5} sx={{ alignItems: 'baseline', flexWrap: 'wrap' }}>
        <Typography color="textSecondary" sx={{ width: 76 }}>
          {claim.attribute}
        </Typography>
        <Typography component="h3" variant="h3">
          {visible(shown)}
        </Typography>
        {claim.perhaps && <Typography color="textSecondary">perhaps {kindLabel(claim.perhaps)}</Typography>}
        <Strength value={claim.strength} />
      </Stack>
      {claim.conflict && (
        <Alert severity="warning" sx={{ mt: 0.5 }}>
          {visible(claim.conflict)}
        </Alert>
      )}
      {claim.candidates.map((candidate) => (
        <Box key={candidate.value} sx={{ pl: { sm: '88px' }, mt: 0.5 }}>
          {candidate.value !== claim.value && (
            <Typography variant="body2" sx={{ color: candidate.besides ? 'text.secondary' : 'warning.main' }}>
              {candidate.besides ? 'it does this besides' : candidate.builtOn ? 'more closely it could be' : claim.strength > 0 ? 'against it' : 'it could be'}: {visible(candidate.value)} <Strength value={candidate.strength} />
            </Typography>
          )}
          <ReasonList reasons={candidate.reasons} />
        </Box>
      ))}
    </Box>
  );
}

/** The reasons for one value. Of one source only the strongest counts; the others are shown when somebody asks for them. */
function ReasonList({ reasons }: { reasons: Claim['candidates'][number]['reasons'] }) {
  const [all, setAll] = useState(false);
  const counted = reasons.filter((r, i) => !reasons.slice(0, i).some((s) => s.fact.source === r.fact.source));
  const more = reasons.length - counted.length;
  return (
    <>
      {(all ? reasons : counted).map((r, i) => (
        <Typography key={i} variant="body2">
          <Box component="span" sx={{ color: 'text.secondary', mr: 1 }}>
            {counted.includes(r) ? `+${r.strength}` : `(+${r.strength})`}
          </Box>
          {visible(r.because)} <DeviceText>{`${r.fact.key} ${r.fact.value}`}</DeviceText>
        </Typography>
      ))}
      {more > 0 && (
        <Button size="small" onClick={() => setAll(!all)} sx={{ p: 0, minWidth: 0 }}>
          {all ? 'only what counts' : `and ${more} more that the same sources say`}
        </Button>
      )}
    </>
  );
}

function Names({ d }: { d: Device }) {
  return (
    <Panel title="Names">
      <Pairs pairs={d.names.map((n) => [n.sources.join(', '), <Box key={n.name}><DeviceText>{n.name}</DeviceText>{n.best && <Typography component="span" variant="body2" color="textSecondary"> shown by this one</Typography>}</Box>])} />
    </Panel>
  );
}

/** How many interfaces are shown before the rest is folded away. */
const fewInterfaces = 12;

function Interfaces({ d }: { d: Device }) {
  const [all, setAll] = useState(d.interfaces.length <= fewInterfaces);
  return (
    <Panel title={`Interfaces (${d.interfaces.length})`}>
      <Scrolling>
        <Table size="small" aria-label="Interfaces">
          <TableHead>
            <TableRow>
              <TableCell>Name</TableCell>
              <TableCell>State</TableCell>
              <TableCell>Speed</TableCell>
              <TableCell>MAC</TableCell>
              <TableCell align="right">In</TableCell>
              <TableCell align="right">Out</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {(all ? d.interfaces : d.interfaces.slice(0, fewInterfaces)).map((i) => (
              <TableRow key={i.index}>
                <TableCell>
                  {visible(i.name)} {i.alias && <Typography component="span" variant="body2" color="textSecondary">{visible(i.alias)}</Typography>}
                </TableCell>
                <TableCell>{i.state}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{speed(i.speed)}</TableCell>
                <TableCell>
                  <DeviceText>{i.mac}</DeviceText>
                </TableCell>
                <TableCell align="right">{bytes(i.in)}</TableCell>
                <TableCell align="right">{bytes(i.out)}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
      {!all && (
        <Button size="small" onClick={() => setAll(true)}>
          and {d.interfaces.length - fewInterfaces} more
        </Button>
      )}
    </Panel>
  );
}

function Parts({ d }: { d: Device }) {
  return (
    <Panel title="Parts">
      <Pairs
        pairs={d.parts.map((p) => [
          p.class,
          [p.maker, p.model || p.text, p.serial && `serial ${p.serial}`, p.hardware && `hardware ${p.hardware}`, p.firmware && `firmware ${p.firmware}`, p.software && `software ${p.software}`]
            .filter((text) => text)
            .map((text) => visible(text ?? ''))
            .join(', '),
        ])}
      />
    </Panel>
  );
}

function Certificates({ d }: { d: Device }) {
  return (
    <Panel title="Certificates">
      <Stack spacing={2}>
        {d.certificates.map((c) => (
          <Box key={c.port}>
            <Pairs
              pairs={[
                ['Port', <DeviceText key="port">{`${c.port} ${c.version ?? ''}`}</DeviceText>],
                ['Subject', visible(c.subject ?? '')],
                ['Issuer', visible(c.issuer ?? '')],
                ['Names', c.names.map(visible).join(', ')],
                ['Valid', c.from && c.until && `${moment(c.from)} to ${moment(c.until)}`],
              ]}
            />
            {c.expired && <Alert severity="warning">It has expired.</Alert>}
          </Box>
        ))}
      </Stack>
    </Panel>
  );
}

function Strength({ value }: { value: number }) {
  return (
    <Tooltip title={odds(value)}>
      <Typography component="span" variant="body2" color="textSecondary" tabIndex={0}>
        {value} dB
      </Typography>
    </Tooltip>
  );
}

function Ports({ d }: { d: Device }) {
  if (d.ports.length === 0) {
    return (
      <Panel title="Ports">
        <Empty title="No port that was asked answers" />
      </Panel>
    );
  }
  return (
    <Panel title="Ports and banners">
      <Scrolling>
        <Table size="small" aria-label="Open ports and what was said there">
          <TableHead>
            <TableRow>
              <TableCell>Port</TableCell>
              <TableCell>Service</TableCell>
              <TableCell>Banner</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {d.ports.map((p) => (
              <TableRow key={p.port} sx={{ verticalAlign: 'top' }}>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  <DeviceText>{p.port}</DeviceText>
                </TableCell>
                <TableCell>{p.service}</TableCell>
                <TableCell>
                  {p.words.map((w) => (
                    <Box key={w.key + w.value}>
                      <Box component="span" sx={{ color: 'text.secondary' }}>
                        {w.key}{' '}
                      </Box>
                      <DeviceText>{w.value}</DeviceText>
                    </Box>
                  ))}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
    </Panel>
  );
}
