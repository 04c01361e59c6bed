import { Chip } from '@mui/material';

import type { Sweep } from '../api/client';
import { count, span } from '../lib/format';

const colours = { running: 'info', done: 'success', stopped: 'warning', interrupted: 'warning', failed: 'error' } as const;

/** How far a sweep has come. */
export function StateChip({ state }: { state: Sweep['state'] }) {
  return <Chip size="small" color={colours[state]} variant={state === 'running' ? 'filled' : 'outlined'} label={state} />;
}

/** A sweep in one sentence. */
export function sweepSentence(s: Sweep): string {
  const answered = `${s.answered.toLocaleString()} of ${count(s.addresses, 'address', 'addresses')} answered`;
  if (!s.ended) return s.state === 'running' ? `Running: ${answered} so far.` : `${answered}.`;
  const took = (new Date(s.ended).getTime() - new Date(s.began).getTime()) / 1000;
  return `${answered}; ${count(s.sent, 'question')} in ${span(took)}.`;
}
