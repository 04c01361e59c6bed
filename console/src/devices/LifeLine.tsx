import { Box, Tooltip, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Device } from '../api/client';
import { keys } from '../app/keys';
import { Panel } from '../app/parts';
import { moment, visible } from '../lib/format';
import { words } from './words';

/** One thing that happened to a device. */
interface Event {
  at: number;
  text: string;
  colour: string;
}

const manyEvents = 200;

/** The device's life on one line: since when it is known, what changed and what people said, up to when it was seen last. */
export function LifeLine({ d }: { d: Device }) {
  const changes = useQuery({
    queryKey: keys.changes(d.site, { of: d.id }),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/changes', { params: { path: { site: d.site }, query: { device: d.id, limit: manyEvents } } }))).items,
  });
  const decisions = useQuery({
    queryKey: keys.decisions(d.id),
    queryFn: async () => (await answer(api.GET('/api/v1/devices/{device}/decisions', { params: { path: { device: d.id } } }))).items,
  });
  if (!d.firstSeen || !d.lastSeen || !changes.data || !decisions.data) return null;
  const events: Event[] = [
    ...changes.data.map((c) => ({
      at: Date.parse(c.began),
      text: [c.attribute ?? c.kind, [c.before, c.after].filter(Boolean).join(' → ')].filter(Boolean).join(': '),
      colour: c.kind === 'vanished' ? 'error.main' : c.kind === 'appeared' ? 'success.main' : 'primary.main',
    })),
    ...decisions.data.map((e) => ({ at: Date.parse(e.at), text: words.by(e.kind, e.by, e.text ? `: ${e.text}` : ''), colour: 'text.secondary' })),
  ].sort((a, b) => a.at - b.at);
  const first = Math.min(Date.parse(d.firstSeen), ...events.map((e) => e.at));
  const last = Math.max(Date.parse(d.lastSeen), ...events.map((e) => e.at));
  if (last === first) return null;
  const place = (at: number) => `${(100 * (at - first)) / (last - first)}%`;
  return (
    <Panel title={words.itsLife}>
      <Box sx={{ position: 'relative', height: 28, mx: 1 }} aria-hidden>
        <Box sx={{ position: 'absolute', top: 13, left: 0, right: 0, height: 2, bgcolor: 'divider' }} />
        <Box
          sx={{
            position: 'absolute',
            top: 12,
            left: place(Date.parse(d.firstSeen)),
            width: `calc(${place(Date.parse(d.lastSeen))} - ${place(Date.parse(d.firstSeen))})`,
            height: 4,
            bgcolor: 'success.main',
            borderRadius: 1,
          }}
        />
        {events.map((e, i) => (
          <Tooltip key={i} title={`${moment(new Date(e.at).toISOString())}, ${visible(e.text)}`}>
            <Box
              sx={{
                position: 'absolute',
                top: 6,
                left: place(e.at),
                ml: '-5px',
                width: 10,
                height: 16,
                borderRadius: 1,
                bgcolor: e.colour,
                border: 1,
                borderColor: 'background.paper',
              }}
            />
          </Tooltip>
        ))}
      </Box>
      <Box sx={{ display: 'flex', justifyContent: 'space-between' }}>
        <Typography variant="caption" color="textSecondary">
          {moment(new Date(first).toISOString())}
        </Typography>
        <Typography variant="caption" color="textSecondary">
          {moment(new Date(last).toISOString())}
        </Typography>
      </Box>
      <Box component="ol" aria-label={words.whatHappenedToIt} tabIndex={0} sx={{ m: 0, mt: 1, pl: 2.5, maxHeight: 180, overflowY: 'auto' }}>
        {events.map((e, i) => (
          <Typography key={i} component="li" variant="body2" sx={{ overflowWrap: 'anywhere' }}>
            {moment(new Date(e.at).toISOString())}: {visible(e.text)}
          </Typography>
        ))}
      </Box>
    </Panel>
  );
}
