import { Box } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api } from '../api/client';
import { useFold } from '../app/Fold';
import { keys } from '../app/keys';
import { Panel } from '../app/parts';
import { visible } from '../lib/format';
import { SeverityTag } from './SeverityTag';
import { words } from './words';

/** What is wrong of one device, the worst first; nothing where nothing is. */
export function DeviceFindings({ site, device }: { site: number; device: number }) {
  const findings = useQuery({
    queryKey: keys.findings(site, { device }),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/findings', { params: { path: { site }, query: { device, state: ['open', 'accepted'] } } }))).items,
  });
  const [shown, more] = useFold(findings.data ?? [], 6);
  if (!findings.data?.length) return null;
  return (
    <Panel title={words.findings}>
      <Box component="ul" sx={{ listStyle: 'none', m: 0, p: 0, display: 'grid', rowGap: 1.25 }}>
        {shown.map((f) => (
          <Box component="li" key={f.id} sx={{ overflowWrap: 'anywhere' }}>
            <SeverityTag severity={f.severity} /> <strong>{visible(f.title)}.</strong> {visible(f.says)} {f.accepted ? words.acceptedShort : visible(f.do)}
          </Box>
        ))}
      </Box>
      {more}
    </Panel>
  );
}
