import { Alert, Box, Stack, Typography } from '@mui/material';

import type { Device } from '../api/client';
import { useFold } from '../app/Fold';
import { DeviceText, Pairs, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { bytes, moment, speed, visible } from '../lib/format';
import { words } from './words';

/** All names of a device, with who tells them. */
export function Names({ d }: { d: Device }) {
  return (
    <Panel title={words.names}>
      <Pairs
        pairs={d.names.map((n) => [
          n.sources.join(', '),
          <Box key={n.name}>
            <DeviceText>{n.name}</DeviceText>
            {n.best && (
              <Typography component="span" variant="body2" color="textSecondary">
                {' '}
                {words.shownByThisOne}
              </Typography>
            )}
          </Box>,
        ])}
      />
    </Panel>
  );
}

/** How many interfaces are shown before the rest is folded away. */
const fewInterfaces = 12;

/** The interfaces that a device's agent tells. */
export function Interfaces({ d }: { d: Device }) {
  const [shown, more] = useFold(d.interfaces, fewInterfaces);
  return (
    <Panel title={words.interfaces(d.interfaces.length)}>
      <SmallTable
        label={words.interfacesToo}
        rows={shown}
        rowKey={(i) => i.index}
        columns={[
          { head: words.name, cell: (i) => <InterfaceName i={i} /> },
          { head: words.state, cell: (i) => i.state },
          { head: words.speed, line: true, cell: (i) => speed(i.speed) },
          { head: words.mac, cell: (i) => <DeviceText>{i.mac}</DeviceText> },
          { head: words.inIt, right: true, cell: (i) => bytes(i.in) },
          { head: words.out, right: true, cell: (i) => bytes(i.out) },
        ]}
      />
      {more}
    </Panel>
  );
}

function InterfaceName({ i }: { i: Device['interfaces'][number] }) {
  return (
    <>
      {visible(i.name)}{' '}
      <Typography component="span" variant="body2" color="textSecondary">
        {[visible(i.alias ?? ''), i.here && words.theVantageIsBehindIt].filter(Boolean).join(', ')}
      </Typography>
    </>
  );
}

/** The physical parts that a device's agent tells. */
export function Parts({ d }: { d: Device }) {
  return (
    <Panel title={words.parts}>
      <Pairs
        pairs={d.parts.map((p) => [
          p.class,
          [
            p.maker,
            p.model || p.text,
            p.serial && words.serial(p.serial),
            p.hardware && words.hardware(p.hardware),
            p.firmware && words.firmware(p.firmware),
            p.software && words.software(p.software),
          ]
            .filter((text) => text)
            .map((text) => visible(text ?? ''))
            .join(', '),
        ])}
      />
    </Panel>
  );
}

/** The certificates that a device shows. */
export function Certificates({ d }: { d: Device }) {
  return (
    <Panel title={words.certificates}>
      <Stack spacing={2}>
        {d.certificates.map((c) => (
          <Box key={c.port}>
            <Pairs
              pairs={[
                [words.port, <DeviceText key="port">{`${c.port} ${c.version ?? ''}`}</DeviceText>],
                [words.subject, visible(c.subject ?? '')],
                [words.issuer, visible(c.issuer ?? '')],
                [words.names, c.names.map(visible).join(', ')],
                [words.valid, c.from && c.until && words.to(moment(c.from), moment(c.until))],
              ]}
            />
            {c.expired && <Alert severity="warning">{words.itHasExpired}</Alert>}
          </Box>
        ))}
      </Stack>
    </Panel>
  );
}

/** The entry of the register that means a device. */
export function RegisterPanel({ d }: { d: Device }) {
  const e = d.registerEntry;
  if (!e) return null;
  const text = (value: string | undefined) => visible(value ?? '');
  return (
    <Panel title={words.inTheRegister}>
      <Pairs
        pairs={[
          [words.name, text(e.name)],
          [words.address, e.address],
          ['MAC', e.mac],
          [words.maker, text(e.vendor)],
          [words.model, text(e.model)],
          [words.kind, text(e.kind)],
          [words.location, text(e.location)],
          [words.responsible, text(e.responsible)],
          [words.remark, text(e.note)],
          ...Object.entries(e.extra ?? {}).map(([name, value]): [string, string] => [visible(name), visible(value)]),
          [words.matchedBy, d.matchedBy],
        ]}
      />
    </Panel>
  );
}

/** How many reasons are shown before the rest is folded away. */
const fewReasons = 4;

/** Why what was seen is taken to be this one device. */
export function Reasons({ reasons }: { reasons: string[] }) {
  const [shown, more] = useFold(reasons, fewReasons);
  return (
    <Panel title={words.whyThisIsOneDevice}>
      <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
        {shown.map((r) => (
          <li key={r}>{r}</li>
        ))}
      </Box>
      {more}
    </Panel>
  );
}
