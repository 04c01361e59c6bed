import type { Sweep } from '../api/client';
import { Tag } from '../app/parts';
import { count, number, span } from '../lib/format';
import { words } from './words';

const tones = { running: 'info', done: 'success', stopped: 'warning', interrupted: 'warning', failed: 'error' } as const;

/** How far a sweep has come. */
export function StateTag({ state }: { state: Sweep['state'] }) {
  return <Tag tone={tones[state]}>{state}</Tag>;
}

/** A sweep in one sentence. */
export function sweepSentence(s: Sweep): string {
  const answered = words.ofAnswered(number(s.answered), count(s.addresses, 'address', 'addresses'));
  if (!s.ended) return s.state === 'running' ? words.runningSoFar(answered) : `${answered}.`;
  const took = (new Date(s.ended).getTime() - new Date(s.began).getTime()) / 1000;
  return words.inIt(answered, count(s.sent, 'question'), span(took));
}
