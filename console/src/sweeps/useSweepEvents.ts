import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useReducer } from 'react';

import type { Progress, Schema, Sighting, Sweep } from '../api/client';

/** What is known of a sweep while it is watched. */
export interface Watched {
  progress?: Progress;
  sightings: Map<string, Sighting>;
  warnings: string[];
  final?: Sweep;
  broken: boolean;
}

type Event =
  | { kind: 'begin' }
  | { kind: 'progress'; progress: Progress }
  | { kind: 'sightings'; sightings: Sighting[] }
  | { kind: 'warning'; text: string }
  | { kind: 'sweep'; sweep: Sweep }
  | { kind: 'broken' };

const nothing: Watched = { sightings: new Map(), warnings: [], broken: false };

function reduce(state: Watched, event: Event): Watched {
  switch (event.kind) {
    case 'begin':
      return nothing;
    case 'progress':
      return { ...state, progress: event.progress, broken: false };
    case 'sightings': {
      const sightings = new Map(state.sightings);
      for (const s of event.sightings) sightings.set(`${s.addr} ${s.mac ?? ''} ${s.unit ?? ''}`, s);
      return { ...state, sightings, broken: false };
    }
    case 'warning':
      return state.warnings.includes(event.text) ? state : { ...state, warnings: [...state.warnings, event.text] };
    case 'sweep':
      return { ...state, final: event.sweep, broken: false };
    case 'broken':
      return { ...state, broken: true };
  }
}

/** How long sightings are collected before they are drawn, in milliseconds: a large sweep tells hundreds a second. */
const drawEvery = 150;

/**
 * Watches a sweep until it is over. When the line breaks the browser comes back and is told everything anew. Another turn
 * begins anew, as when a sweep was continued.
 */
export function useSweepEvents(id: number, turn: number): Watched {
  const [state, dispatch] = useReducer(reduce, nothing);
  const queries = useQueryClient();
  useEffect(() => {
    dispatch({ kind: 'begin' });
    const source = new EventSource(`/api/v1/sweeps/${id}/events`);
    let waiting: Sighting[] = [];
    const draw = () => {
      if (waiting.length > 0) dispatch({ kind: 'sightings', sightings: waiting });
      waiting = [];
    };
    const timer = setInterval(draw, drawEvery);
    const on = <T,>(name: string, take: (value: T) => void) =>
      source.addEventListener(name, (e) => take(JSON.parse((e as MessageEvent<string>).data) as T));
    on<Progress>('progress', (progress) => dispatch({ kind: 'progress', progress }));
    on<Sighting>('sighting', (s) => void waiting.push(s));
    on<Schema['Warning']>('warning', (w) => dispatch({ kind: 'warning', text: w.text }));
    on<Sweep>('sweep', (sweep) => {
      source.close();
      draw();
      dispatch({ kind: 'sweep', sweep });
      for (const key of ['overview', 'devices', 'sweeps', 'sweep']) void queries.invalidateQueries({ queryKey: [key] });
    });
    source.onerror = () => dispatch({ kind: 'broken' });
    return () => {
      clearInterval(timer);
      source.close();
    };
  }, [id, turn, queries]);
  return state;
}
