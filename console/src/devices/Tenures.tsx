import { Table, TableBody, TableCell, TableHead, TableRow, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Device } from '../api/client';
import { DeviceText, Failure, Panel, Scrolling } from '../app/parts';
import { moment } from '../lib/format';

/** How many tenures a device's page shows. */
const fewTenures = 12;

/** Which addresses the device held, from when to when, the latest first. */
export function Tenures({ d }: { d: Device }) {
  const tenures = useQuery({
    queryKey: ['tenures', d.id],
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/tenures', { params: { path: { site: d.site }, query: { device: d.id, limit: fewTenures } } })),
  });
  const list = tenures.data?.items ?? [];
  if (tenures.isSuccess && list.length === 0) return null;
  return (
    <Panel title="Held">
      <Failure failure={tenures.error} />
      <Scrolling>
        <Table size="small" aria-label="Which addresses it held, from when to when">
          <TableHead>
            <TableRow>
              <TableCell>Address</TableCell>
              <TableCell>Since</TableCell>
              <TableCell>Until</TableCell>
              <TableCell>Seen from</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {list.map((t) => (
              <TableRow key={`${t.addr} ${t.mac} ${t.vantage} ${t.sinceSweep}`}>
                <TableCell>
                  <DeviceText>{t.addr ?? ''}</DeviceText>
                  {t.mac && <Typography variant="caption" color="textSecondary" sx={{ display: 'block' }}>{t.mac}</Typography>}
                </TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(t.since)}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  {moment(t.until)}
                  {t.ended && <Typography variant="caption" color="textSecondary" sx={{ display: 'block' }}>left since</Typography>}
                </TableCell>
                <TableCell>{t.vantage}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
      {tenures.data?.next && <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>The latest {fewTenures}; airdrift tenures --device {d.id} lists all.</Typography>}
    </Panel>
  );
}
