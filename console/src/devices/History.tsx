import { Button, Link } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Device } from '../api/client';
import { keys } from '../app/keys';
import { DeviceText, Failure, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { moment } from '../lib/format';
import { words } from './words';

/** How many sightings a device's page shows. */
const manySightings = 20;

/** When and where a device was seen, the latest first. */
export function History({ d }: { d: Device }) {
  const history = useQuery({
    queryKey: keys.history(d.id),
    queryFn: async () => (await answer(api.GET('/api/v1/devices/{device}/history', { params: { path: { device: d.id } } }))).items,
  });
  if (history.isSuccess && history.data.length === 0) return null;
  return (
    <Panel title={words.seen}>
      <Failure failure={history.error} />
      <SmallTable
        label={words.whenAndWhereItWas}
        rows={(history.data ?? []).slice(0, manySightings)}
        rowKey={(h) => `${h.sweep} ${h.addr} ${h.mac}`}
        columns={[
          {
            head: words.sweep,
            cell: (h) => (
              <Link component={RouterLink} to={`/sites/${d.site}/sweeps/${h.sweep}`}>
                {h.sweep}
              </Link>
            ),
          },
          { head: words.at, line: true, cell: (h) => moment(h.at) },
          { head: words.address, cell: (h) => <DeviceText>{h.addr}</DeviceText> },
          { head: words.facts, right: true, cell: (h) => h.facts },
        ]}
      />
      <Button component={RouterLink} to={`/sites/${d.site}/changes?device=${d.id}`} sx={{ mt: 1, ml: -1 }}>
        {words.whatChanged}
      </Button>
    </Panel>
  );
}
