import createClient from 'openapi-fetch';

import type { components, paths } from './schema';
import { words } from './words';

export type Schema = components['schemas'];
export type Device = Schema['Device'];
export type DeviceLine = Schema['DeviceLine'];
export type Sweep = Schema['Sweep'];
export type Sighting = Schema['Sighting'];
export type Progress = Schema['Progress'];
export type Site = Schema['Site'];
export type Port = Schema['Port'];
export type Claim = Schema['Claim'];
export type Vantage = Schema['Vantage'];
export type Fence = Schema['Fence'];

export const api = createClient<paths>({ baseUrl: '/', credentials: 'same-origin' });

/** How long after the last touch of mouse, key or screen somebody is taken to be there. */
const attendedFor = 60_000;
let touched = Date.now();
for (const kind of ['pointerdown', 'keydown', 'wheel', 'touchstart']) {
  window.addEventListener(kind, () => (touched = Date.now()), { passive: true, capture: true });
}

// A page that is left open goes on asking, and must not keep the session alive by that.
api.use({
  onRequest({ request }) {
    if (Date.now() - touched > attendedFor) request.headers.set('Airdrift-Unattended', '1');
    return request;
  },
});

/** One thing wrong among several, with its place. */
export interface FaultDetail {
  message?: string;
  location?: string;
  value?: unknown;
}

/** A problem that the service told (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly details: FaultDetail[],
    /** What kind of problem it is, where the console does something about it. */
    readonly type = '',
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: { type?: string; detail?: string; title?: string; errors?: FaultDetail[] | null };
  response: Response;
}

/** Gives the answer to a request, or throws its problem. */
export async function answer<T>(request: Promise<Answer<T>>): Promise<T> {
  let result: Answer<T>;
  try {
    result = await request;
  } catch {
    throw new Problem(0, words.theServiceDoesNotAnswer, []);
  }
  const { data, error, response } = result;
  if (error !== undefined || !response.ok) {
    throw new Problem(response.status, error?.detail ?? error?.title ?? response.statusText, error?.errors ?? [], error?.type);
  }
  return data as T;
}

/** Says whether a failure means that nobody is signed in any more. */
export function isSignedOut(failure: unknown): boolean {
  return failure instanceof Problem && failure.status === 401;
}

/** Says whether a failure may pass by itself: the service did not answer, or was in trouble of its own. */
export function mayPass(failure: unknown): boolean {
  return !(failure instanceof Problem) || failure.status === 0 || failure.status >= 500;
}

/** Says whether a sign-in lacks the code of the second factor, or the code was wrong. */
export function wantsCode(failure: unknown): boolean {
  return failure instanceof Problem && failure.type === 'urn:airdrift:problem:second-factor';
}
