import { useQueryClient } from '@tanstack/react-query';
import { useCallback } from 'react';

/**
 * The names under which the answers of the service are kept: of one question the same everywhere, and its first word tells what is out of date together. What
 * is given no number stands for all of its kind.
 */
export const keys = {
  session: ['session'],
  sites: ['sites'],
  vantages: ['vantages'],
  protocols: ['protocols'],
  users: ['users'],
  tokens: ['tokens'],
  audit: ['audit'],
  access: (user?: string) => (user === undefined ? ['access'] : ['access', user]),
  overview: (site: number) => ['overview', site],
  fields: (site: number) => ['fields', site],
  values: (site: number) => ['values', site],
  devices: (site: number, filter: unknown) => ['devices', site, filter],
  device: (device: number) => ['device', device],
  history: (device: number) => ['history', device],
  tenures: (device: number) => ['tenures', device],
  decisions: (device: number) => ['decisions', device],
  changes: (site: number, filter: unknown) => ['changes', site, filter],
  timesOf: (device: number) => ['response-times', 'of', device],
  times: (site: number, filter: unknown) => ['response-times', site, filter],
  findings: (site: number, filter: unknown) => ['findings', site, filter],
  findingCounts: (site: number) => ['findings', 'counts', site],
  pictures: (site: number) => ['pictures', site],
  addresses: (site: number, subnet: string) => ['addresses', site, subnet],
  acts: (site: number) => ['acts', site],
  drift: (site: number) => ['drift', site],
  views: (site: number) => ['views', site],
  report: (site: number, choice: unknown) => ['report', site, choice],
  completeness: (site: number) => ['completeness', site],
  openness: (site: number, filter: unknown) => ['openness', site, filter],
  firmware: (site: number) => ['firmware', site],
  register: (site: number, missing: boolean) => ['register', site, missing],
  sweeps: (site: number) => ['sweeps', site],
  sweep: (sweep: number) => ['sweep', sweep],
  sweepLog: (sweep: number) => ['sweep', sweep, 'log'],
  sightings: (sweep: number, running: boolean) => ['sightings', sweep, running],
  fence: (site: number) => ['fence', site],
  reach: (site: number, address: string) => ['reach', site, address],
  credentials: (site: number) => ['credentials', site],
  rules: (site: number) => ['rules', site],
} as const;

/** What an answer is about: the beginning of its name, by which it goes out of date together with its like. */
type Subject =
  | 'session'
  | 'sites'
  | 'vantages'
  | 'users'
  | 'tokens'
  | 'audit'
  | 'access'
  | 'overview'
  | 'values'
  | 'devices'
  | 'device'
  | 'history'
  | 'tenures'
  | 'decisions'
  | 'changes'
  | 'response-times'
  | 'findings'
  | 'pictures'
  | 'addresses'
  | 'acts'
  | 'drift'
  | 'views'
  | 'report'
  | 'completeness'
  | 'openness'
  | 'firmware'
  | 'register'
  | 'sweeps'
  | 'sweep'
  | 'sightings'
  | 'fence'
  | 'credentials'
  | 'rules';

/** What is out of date once devices have changed. */
export const aboutDevices: Subject[] = [
  'overview',
  'devices',
  'device',
  'history',
  'tenures',
  'decisions',
  'changes',
  'register',
  'fence',
  'values',
  'response-times',
  'openness',
  'firmware',
  'findings',
  'pictures',
  'addresses',
  'acts',
  'drift',
  'views',
  'report',
  'completeness',
];

/** What is out of date once a sweep has ended. */
export const aboutSweeps: Subject[] = [...aboutDevices, 'sweeps', 'sweep', 'sightings'];

/** Says what is out of date: what of it is shown is asked for again, and the rest when it is shown next. */
export function useOutdated() {
  const queries = useQueryClient();
  return useCallback((...subjects: Subject[]) => Promise.all(subjects.map((subject) => queries.invalidateQueries({ queryKey: [subject] }))), [queries]);
}
