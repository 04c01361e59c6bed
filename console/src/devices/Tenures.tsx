import { Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Device } from '../api/client';
import { keys } from '../app/keys';
import { DeviceText, Failure, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { moment } from '../lib/format';
import { words } from './words';

/** How many tenures a device's page shows. */
const fewTenures = 12;

/** Which addresses the device held, from when to when, the latest first. */
export function Tenures({ d }: { d: Device }) {
  const tenures = useQuery({
    queryKey: keys.tenures(d.id),
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/tenures', { params: { path: { site: d.site }, query: { device: d.id, limit: fewTenures } } })),
  });
  const list = tenures.data?.items ?? [];
  if (tenures.isSuccess && list.length === 0) return null;
  return (
    <Panel title={words.held}>
      <Failure failure={tenures.error} />
      <SmallTable
        label={words.whichAddressesItHeldFrom}
        rows={list}
        rowKey={(t) => `${t.addr} ${t.mac} ${t.vantage} ${t.sinceSweep}`}
        columns={[
          {
            head: words.address,
            cell: (t) => (
              <>
                <DeviceText>{t.addr ?? ''}</DeviceText>
                {t.mac && (
                  <Typography variant="caption" color="textSecondary" sx={{ display: 'block' }}>
                    {t.mac}
                  </Typography>
                )}
              </>
            ),
          },
          { head: words.since, line: true, cell: (t) => moment(t.since) },
          {
            head: words.until,
            line: true,
            cell: (t) => (
              <>
                {moment(t.until)}
                {t.ended && (
                  <Typography variant="caption" color="textSecondary" sx={{ display: 'block' }}>
                    {words.leftSince}
                  </Typography>
                )}
              </>
            ),
          },
          { head: words.seenFrom, cell: (t) => t.vantage },
        ]}
      />
      {tenures.data?.next && (
        <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>
          {words.theLatest} {fewTenures}
          {words.airdriftTenuresDevice} {d.id} {words.listsAll}
        </Typography>
      )}
    </Panel>
  );
}
