/** Writes a moment in the building's own time, in the order that sorts and that nobody misreads: 2026-11-24 15:04. */
export function moment(iso: string | undefined): string {
  if (!iso) return '';
  return new Date(iso).toLocaleString('sv-SE', { dateStyle: 'short', timeStyle: 'short' });
}

/** Writes a length of time in seconds: "4.2 s", "3 min 20 s". */
export function span(seconds: number): string {
  if (seconds < 60) return `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s`;
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes} min ${Math.round(seconds % 60)} s`;
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

/** Writes a number of things: "1 device", "24 devices". */
export function count(n: number, thing: string, things = `${thing}s`): string {
  return `${n.toLocaleString()} ${n === 1 ? thing : things}`;
}

/** Makes control and format characters of a device's text visible, so that it can neither hide nor reorder anything. */
export function visible(text: string): string {
  return text.replace(/[\p{Cc}\p{Cf}]/gu, (c) => `\\x${c.codePointAt(0)?.toString(16).padStart(2, '0')}`);
}

/** Says how sure a strength in decibans is, in odds. */
export function odds(strength: number): string {
  if (strength <= 0) return 'no evidence';
  const ratio = 10 ** (strength / 10);
  const rounded = ratio < 10 ? ratio.toFixed(1) : Number(ratio.toPrecision(2)).toLocaleString();
  return `odds of ${rounded} to 1`;
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
