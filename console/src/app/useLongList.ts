import { keepPreviousData, useQuery, type QueryKey } from '@tanstack/react-query';
import { useCallback, useEffect, useRef, useState } from 'react';

/** A part of a list, as the service gives it. */
interface Part<T> {
  items: T[];
  /** How many there are altogether. */
  total?: number;
}

/** A long list of the service of which only what is looked at is loaded. */
export interface LongList<T> {
  /** How many there are altogether; undefined until it is known. */
  total: number | undefined;
  /** The item at an index from 0; undefined where it is not loaded. */
  row: (index: number) => T | undefined;
  /** Says which items are looked at, from the first to the last. */
  look: (first: number, last: number) => void;
  loading: boolean;
  error: unknown;
}

/** In steps of how many items it is loaded, and how many are loaded beyond what is looked at. */
const step = 50;
const beyond = 25;

/** How long somebody has to look at one place before it is loaded, in milliseconds: who scrolls past asks for nothing. */
const lookFor = 60;

/** Loads a list as it is looked at. The key names the list; another key is another list, whose start is loaded first. every, in milliseconds, loads it again. */
export function useLongList<T>(
  key: QueryKey,
  load: (skip: number, limit: number, signal: AbortSignal) => Promise<Part<T> | undefined>,
  start = 0,
  every: number | false = false,
): LongList<T> {
  const [looked, setLooked] = useState<[number, number]>([start, start]);
  const first = Math.max(0, Math.floor((looked[0] - beyond) / step) * step);
  const limit = Math.min(1000, Math.ceil((looked[1] + beyond + 1) / step) * step - first);
  const part = useQuery({
    queryKey: [...key, 'part', first, limit],
    queryFn: async ({ signal }) => ({ first, ...((await load(first, limit, signal)) ?? { items: [] }) }),
    placeholderData: keepPreviousData,
    refetchInterval: every,
  });
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => () => clearTimeout(timer.current), []);
  // Nothing of the page is drawn anew until somebody has come to rest.
  const look = useCallback((from: number, to: number) => {
    clearTimeout(timer.current);
    timer.current = setTimeout(() => setLooked((was) => (was[0] === from && was[1] === to ? was : [from, to])), lookFor);
  }, []);
  const { data } = part;
  return { total: data?.total, row: (index) => data?.items[index - data.first], look, loading: part.isFetching && (part.isPending || part.isPlaceholderData), error: part.error };
}
