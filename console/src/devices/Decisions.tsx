import { Box, Button, Stack, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Device, type Schema } from '../api/client';
import { keys } from '../app/keys';
import { moment, visible } from '../lib/format';
import { Failure, Panel } from '../app/parts';
import { useMay } from '../app/queries';
import { useChange } from './useChange';
import { words } from './words';

type Decision = Schema['Decision'];

const said = (decision: Decision) => [decision.says, visible(decision.text)].filter(Boolean).join(': ');

function state(decision: Decision) {
  if (decision.undoneAt) return words.undoneBy(visible(decision.undoneBy ?? ''), moment(decision.undoneAt));
  return decision.holds ? '' : words.replacedByALaterOne;
}

/** What people have said of a device, the newest first; what holds can be undone. */
export function Decisions({ d }: { d: Device }) {
  const may = useMay('sweep');
  const decisions = useQuery({
    queryKey: keys.decisions(d.id),
    queryFn: async () => (await answer(api.GET('/api/v1/devices/{device}/decisions', { params: { path: { device: d.id } } }))).items,
  });
  const undo = useChange((id: number) => answer(api.POST('/api/v1/decisions/{decision}/undo', { params: { path: { decision: id } } })));
  if (decisions.isSuccess && decisions.data.length === 0) return null;
  return (
    <Panel title={words.decisions}>
      <Failure failure={decisions.error ?? undo.error} />
      <Stack spacing={1} component="ul" sx={{ listStyle: 'none', m: 0, p: 0 }}>
        {decisions.data?.map((decision) => (
          <Stack key={decision.id} component="li" direction="row" spacing={1} sx={{ justifyContent: 'space-between', alignItems: 'flex-start' }}>
            <Box sx={{ minWidth: 0 }}>
              <Typography variant="body2" sx={{ whiteSpace: 'pre-wrap', overflowWrap: 'anywhere', ...(decision.holds ? {} : { color: 'text.secondary' }) }}>
                {said(decision)}
              </Typography>
              <Typography variant="caption" color="textSecondary">
                {[visible(decision.by), moment(decision.at), state(decision)].filter(Boolean).join(', ')}
              </Typography>
            </Box>
            {may && decision.holds && (
              <Button size="small" loading={undo.isPending && undo.variables === decision.id} onClick={() => undo.mutate(decision.id)}>
                {words.undo}
              </Button>
            )}
          </Stack>
        ))}
      </Stack>
    </Panel>
  );
}
