import { number } from '../lib/format';
import type { Schema } from '../api/client';
import { kindLabel } from '../devices/kinds';
import { words } from './words';

export type DeviceTimes = Schema['DeviceTimes'];

/** Devices that are alike, with how their medians lie. */
export interface Group {
  name: string;
  devices: DeviceTimes[]; // the fastest first
  low: number; // quartiles of their medians
  middle: number;
  high: number;
  outliers: Set<number>; // numbers of devices that are far slower than the rest
}

const share = (sorted: number[], q: number) => sorted[Math.max(0, Math.ceil(q * sorted.length) - 1)] ?? 0;

/** Of fewer devices than these nothing can be said of which one is out of line. */
const fewAlike = 4;

/** Puts devices together by what they have in common, the slowest group first. A device is out of line whose median lies above the upper
 * quartile by more than one and a half times the distance of the quartiles (Tukey's fences). */
export function groups(devices: DeviceTimes[], by: 'kind' | 'model'): Group[] {
  const together = new Map<string, DeviceTimes[]>();
  for (const d of devices) {
    const name = by === 'kind' ? kindLabel(d.kind) : d.model || 'unknown';
    together.set(name, [...(together.get(name) ?? []), d]);
  }
  return [...together]
    .map(([name, list]) => {
      const sorted = [...list].sort((a, b) => a.median - b.median);
      const medians = sorted.map((d) => d.median);
      const low = share(medians, 0.25);
      const high = share(medians, 0.75);
      const fence = high + 1.5 * (high - low);
      const out = sorted.length < fewAlike ? [] : sorted.filter((d) => d.median > fence && d.median > 2 * share(medians, 0.5));
      return { name, devices: sorted, low, middle: share(medians, 0.5), high, outliers: new Set(out.map((d) => d.device)) };
    })
    .sort((a, b) => b.middle - a.middle || a.name.localeCompare(b.name));
}

/** Writes a time in milliseconds as it is read: without what nobody would call a difference. */
export function milliseconds(ms: number): string {
  return ms >= 100 ? words.ms(number(Math.round(ms))) : words.msToo(Number(ms.toPrecision(3)));
}

/** A logarithmic scale from one power of ten to another, on which each of some spreads has its place, from 0 to 1. */
export function scaleOf(spreads: { least: number; most: number }[]) {
  const from = Math.floor(log(Math.min(...spreads.map((s) => s.least))));
  const to = Math.max(Math.ceil(log(Math.max(...spreads.map((s) => s.most)))), from + 1);
  const place = (ms: number) => Math.min(1, Math.max(0, (log(ms) - from) / (to - from)));
  return { place, marks: Array.from({ length: to - from + 1 }, (_, i) => 10 ** (from + i)) };
}

const log = (ms: number) => Math.log10(Math.max(ms, 0.01));
