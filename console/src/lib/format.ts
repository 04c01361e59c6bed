import { words } from './words';

/** What writes moments: the digits, in the one order of the locales that is that of ISO 8601, and the short name of the zone. */
const writers = (timeZone: string | undefined) => ({
  digits: new Intl.DateTimeFormat('sv-SE', { dateStyle: 'short', timeStyle: 'short', timeZone }),
  zone: new Intl.DateTimeFormat('en-GB', { timeZoneName: 'short', timeZone }),
});

/** The zone in which moments are written, and what writes them: made when the first one is written, as it takes long. */
let writtenIn: string | undefined;
let writer: ReturnType<typeof writers> | undefined;

/** Says in which time zone moments are written, by its name in the tz database; with an empty one in that of who looks. */
export function writeTimesIn(zone: string) {
  if (writtenIn === (zone || undefined)) return;
  writtenIn = zone || undefined;
  writer = undefined;
}

function writerOfNow() {
  try {
    writer ??= writers(writtenIn);
  } catch {
    writer = writers('UTC'); // a zone that this browser does not know
  }
  return writer;
}

/** Writes a moment in the site's own time, in the order that sorts and that nobody misreads, with the zone: 2026-11-24 15:04 UTC. */
export function moment(iso: string | undefined): string {
  if (!iso) return '';
  const at = new Date(iso);
  const write = writerOfNow();
  const zone = write.zone.formatToParts(at).find((part) => part.type === 'timeZoneName')?.value ?? '';
  return `${write.digits.format(at)} ${zone}`;
}

/** Writes the day of a moment in the site's own time: 2026-11-24. */
export function day(iso: string | undefined): string {
  return iso ? (writerOfNow().digits.format(new Date(iso)).split(' ')[0] ?? '') : '';
}

/** Writes the time of day of a moment in milliseconds since 1970, to the second, as the clock of who looks has it. */
export function clock(at: number): string {
  return new Date(at).toLocaleTimeString('sv-SE');
}

/** Writes a number in groups of three digits: 12,345. What the browser has for it takes long the first time, and figures are what is seen first. */
export function number(n: number): string {
  if (!Number.isSafeInteger(n)) return n.toLocaleString('en-GB');
  return String(n).replace(/\B(?=(\d{3})+$)/g, ',');
}

/** Writes a length of time in seconds: "4.2 s", "3 min 20 s". */
export function span(seconds: number): string {
  if (seconds < 60) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return words.minS(minutes, Math.round(seconds % 60));
  return words.hMin(Math.floor(minutes / 60), minutes % 60);
}

/** Writes a number of things: "1 device", "24 devices". */
export function count(n: number, thing: string, things = `${thing}s`): string {
  return `${number(n)} ${n === 1 ? thing : things}`;
}

/** Makes control and format characters of a device's text visible, so that it can neither hide nor reorder anything. */
export function visible(text: string): string {
  return text.replace(/[\p{Cc}\p{Cf}]/gu, (c) => `\\x${c.codePointAt(0)?.toString(16).padStart(2, '0')}`);
}

/** Says how sure a strength in decibans is, in odds: "63 to 1". */
export function odds(strength: number): string {
  if (strength <= 0) return words.noEvidence;
  return words.to1(factor(strength));
}

/** How many times likelier a strength in decibans makes something. */
export function factor(strength: number): string {
  const ratio = 10 ** (strength / 10);
  return ratio < 10 ? ratio.toFixed(1) : number(Number(ratio.toPrecision(2)));
}

/** Bits a second in words. */
export function speed(bits: number | undefined): string {
  if (!bits) return '';
  return bits >= 1e9 ? `${bits / 1e9} Gbit/s` : `${bits / 1e6} Mbit/s`;
}

/** An amount of bytes in words. */
export function bytes(n: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB', 'PB'];
  let at = 0;
  while (n >= 1000 && at < units.length - 1) {
    n /= 1000;
    at += 1;
  }
  return `${at === 0 ? n : n.toFixed(1)} ${units[at]}`;
}
