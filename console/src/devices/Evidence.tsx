import { Box, Typography } from '@mui/material';

import type { Device } from '../api/client';
import { Fold } from '../app/Fold';
import { DeviceText, Panel } from '../app/parts';
import { count, moment } from '../lib/format';
import { words } from './words';

/** All facts of a device by the protocol that told them, and what it was asked in vain. */
export function Evidence({ d }: { d: Device }) {
  const bySource = Map.groupBy(d.evidence, (f) => f.source);
  return (
    <Panel title={words.evidence}>
      {bySource.size === 0 && <Typography color="textSecondary">{words.theLastSweepLearnedNothing}</Typography>}
      {[...bySource].map(([source, facts]) => (
        <Fold
          key={source}
          title={
            <>
              <strong>{source}</strong> {count(facts.length, 'fact')}
            </>
          }
        >
          <Box component="ul" sx={{ listStyle: 'none', m: 0, mb: 1, pl: 2.5 }}>
            {facts.map((f, i) => (
              <Typography key={i} component="li" variant="body2" title={moment(f.at)}>
                <Box component="span" sx={{ color: 'text.secondary' }}>
                  {[f.key, f.port].filter(Boolean).join(' ')}{' '}
                </Box>
                <DeviceText>{f.value}</DeviceText>
              </Typography>
            ))}
          </Box>
        </Fold>
      ))}
      <Unanswered d={d} />
    </Panel>
  );
}

function Unanswered({ d }: { d: Device }) {
  const { ports, protocols } = d.unanswered;
  if (ports.length + protocols.length === 0) return null;
  return (
    <Fold
      title={
        <>
          <strong>{words.askedAndNotAnswered}</strong> {count(ports.length + protocols.length, 'question')}
        </>
      }
    >
      <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
        {protocols.length > 0 && (
          <li>
            {words.itDoesNotSpeakThese} {protocols.join(', ')}.
          </li>
        )}
        {ports.length > 0 && (
          <li>
            {words.neitherAcceptedNorRefusedSo} {ports.join(', ')}.
          </li>
        )}
      </Box>
    </Fold>
  );
}
