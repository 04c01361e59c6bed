import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useReducer } from 'react';

import type { Progress, Schema, Sweep } from '../api/client';
import { aboutSweeps, keys, useOutdated } from '../app/keys';

/** What is known of a sweep while it is watched. */
export interface Watched {
  progress?: Progress;
  warnings: string[];
  final?: Sweep;
  broken: boolean;
}

/** What the service tells, by its name. */
interface Told {
  progress: Progress;
  warning: Schema['Warning'];
  sweep: Sweep;
}

type Event = { kind: 'begin' } | { kind: 'progress'; progress: Progress } | { kind: 'warning'; text: string } | { kind: 'sweep'; sweep: Sweep } | { kind: 'broken' };

const nothing: Watched = { warnings: [], broken: false };

function reduce(state: Watched, event: Event): Watched {
  switch (event.kind) {
    case 'begin':
      return nothing;
    case 'progress':
      return { ...state, progress: event.progress, broken: false };
    case 'warning':
      return state.warnings.includes(event.text) ? state : { ...state, warnings: [...state.warnings, event.text] };
    case 'sweep':
      return { ...state, final: event.sweep, broken: false };
    case 'broken':
      return { ...state, broken: true };
  }
}

/** How long is waited before the first attempt to come back, and at most, in milliseconds. */
const firstWait = 1000;
const longestWait = 15_000;

/**
 * Watches how far a sweep is until it is over. When the connection is lost it comes back, each time after a longer wait. Another turn begins anew, as when a sweep
 * was resumed.
 */
export function useSweepEvents(id: number, turn: number): Watched {
  const [state, dispatch] = useReducer(reduce, nothing);
  const queries = useQueryClient();
  const outdated = useOutdated();
  useEffect(() => {
    dispatch({ kind: 'begin' });
    let source: EventSource;
    let again: ReturnType<typeof setTimeout> | undefined;
    let wait = firstWait;
    const on = <N extends keyof Told>(name: N, take: (value: Told[N]) => void) => {
      source.addEventListener(name, (e) => {
        wait = firstWait;
        take(JSON.parse((e as MessageEvent<string>).data) as Told[N]);
      });
    };
    const listen = () => {
      source = new EventSource(`/api/v1/sweeps/${id}/events?sightings=none`);
      on('progress', (progress) => dispatch({ kind: 'progress', progress }));
      on('warning', (w) => dispatch({ kind: 'warning', text: w.text }));
      on('sweep', (sweep) => {
        source.close();
        dispatch({ kind: 'sweep', sweep });
        void outdated(...aboutSweeps);
      });
      source.onerror = () => {
        source.close(); // the browser gives up where the service refuses, and it is not told how long to wait
        dispatch({ kind: 'broken' });
        void queries.invalidateQueries({ queryKey: keys.sweep(id) });
        again = setTimeout(listen, wait);
        wait = Math.min(2 * wait, longestWait);
      };
    };
    listen();
    return () => {
      clearTimeout(again);
      source.close();
    };
  }, [id, turn, queries, outdated]);
  return state;
}
