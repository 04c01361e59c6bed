import { queryOptions, useQuery, type QueryClient } from '@tanstack/react-query';
import { useParams } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { keys } from './keys';

/** How often it is looked whether the service answers and the session holds, in milliseconds, whatever page is open. */
const lookEvery = 15_000;

const session = queryOptions({ queryKey: keys.session, queryFn: () => answer(api.GET('/api/v1/session')), retry: false });
const sites = queryOptions({ queryKey: keys.sites, queryFn: async () => (await answer(api.GET('/api/v1/sites'))).items });
const overview = (site: number) => queryOptions({ queryKey: keys.overview(site), queryFn: () => answer(api.GET('/api/v1/sites/{site}/overview', { params: { path: { site } } })) });

/** Asks for what the first page needs before anything of it is drawn; done when all has come or failed. What fails is asked for again, and told, where it is shown. */
export async function askEarly(queries: QueryClient, site: number | undefined) {
  await Promise.allSettled([queries.query(session), queries.query(sites), site !== undefined && queries.query(overview(site))]);
}

/** Who is signed in; fails where nobody is. */
export function useSession() {
  return useQuery({ ...session, refetchInterval: lookEvery });
}

/** A role, as the service names it. */
export type Role = Schema['Session']['role'];

/** Whether who is signed in may do what a role may; the service decides, and refuses in any case. */
export function useMay(role: Role): boolean {
  return useSession().data?.may.includes(role) ?? false;
}

/** All sites. */
export function useSites(enabled = true) {
  return useQuery({ ...sites, enabled });
}

/** The number of the site that the address bar names. */
export function useSiteId(): number {
  return Number(useParams().site);
}

/** How often the figures of a site are looked at again, in milliseconds. */
const figuresEvery = 10_000;

/** What is at a site, in figures. */
export function useOverview(site: number) {
  return useQuery({ ...overview(site), refetchInterval: figuresEvery });
}
