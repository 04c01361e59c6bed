import { Box, Link, Stack, Typography } from '@mui/material';

import type { Device } from '../api/client';
import { Copy } from '../app/Copy';
import { useFold } from '../app/Fold';
import { DeviceText, Pairs, Panel } from '../app/parts';
import { moment, visible } from '../lib/format';
import { kindLabel } from './kinds';
import { words } from './words';

/** How many addresses of one device are shown before the rest is folded away. */
const fewAddresses = 6;

/** Where and when a device was met, and the ways to open it at each of its addresses. */
export function Whereabouts({ d }: { d: Device }) {
  const [addresses, more] = useFold(d.addresses, fewAddresses);
  const serial = d.claims.find((c) => c.attribute === 'serial')?.value;
  return (
    <Panel title={words.whereAndWhen}>
      <Pairs
        pairs={[
          [
            words.addresses,
            addresses.length > 0 && (
              <>
                {addresses.map((a) => (
                  <Address key={a} address={a} links={d.links.filter((l) => l.address === a)} />
                ))}
                {more}
              </>
            ),
          ],
          [words.unit, d.unit],
          ['MAC', d.macs.length > 0 ? d.macs.map((m) => <MacLine key={m.mac} mac={m} />) : words.notVisibleFromTheVantage],
          [words.kind, kindLabel(d.kind)],
          [words.serialToo, serial && <Copied text={serial} />],
          [words.firstSeen, moment(d.firstSeen) || 'never'],
          [words.lastSeen, moment(d.lastSeen) || 'never'],
          [words.note, d.note && <Box sx={{ whiteSpace: 'pre-wrap' }}>{visible(d.note)}</Box>],
        ]}
      />
    </Panel>
  );
}

/** A text of a device with a button that copies it. */
function Copied({ text }: { text: string }) {
  return (
    <>
      <DeviceText>{text}</DeviceText> <Copy text={text} />
    </>
  );
}

/** An address with the ways to open the device there. Their targets are made by the service of the device's address and port alone. */
function Address({ address, links }: { address: string; links: Device['links'] }) {
  return (
    <Box sx={{ mb: 0.5 }}>
      <Copied text={address} />
      {links.length > 0 && (
        <Stack direction="row" useFlexGap sx={{ flexWrap: 'wrap', columnGap: 2, rowGap: 0.5 }}>
          {links.map((l) => (
            <Link key={l.url} href={l.url} target="_blank" rel="noreferrer noopener" sx={{ py: 0.25 }}>
              {l.title}
            </Link>
          ))}
        </Stack>
      )}
    </Box>
  );
}

function MacLine({ mac }: { mac: Device['macs'][number] }) {
  const remark = mac.shared ? words.aVirtualRoutersSeveralDevices : mac.private ? words.privateChosenByTheDevice : mac.vendor || words.prefixNotRegistered;
  return (
    <Box>
      <Copied text={mac.mac} />{' '}
      <Typography component="span" variant="body2" color="textSecondary">
        {visible(mac.former ? `formerly; ${remark}` : remark)}
      </Typography>
    </Box>
  );
}
