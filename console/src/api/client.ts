import createClient from 'openapi-fetch';

import type { components, paths } from './schema';

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
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: { detail?: string; title?: string; errors?: FaultDetail[] | null };
  response: Response;
}

/** Gives the answer to a request, or throws its problem. */
export async function answer<T>(request: Promise<Answer<T>>): Promise<T> {
  let result: Answer<T>;
  try {
    result = await request;
  } catch {
    throw new Problem(0, 'The service does not answer. Is it running, and is this machine connected to it?', []);
  }
  const { data, error, response } = result;
  if (error !== undefined || !response.ok) {
    throw new Problem(response.status, error?.detail ?? error?.title ?? response.statusText, error?.errors ?? []);
  }
  return data as T;
}

/** Says whether a failure means that nobody is signed in any more. */
export function isSignedOut(failure: unknown): boolean {
  return failure instanceof Problem && failure.status === 401;
}
