import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';

import { answer, api, type Schema } from '../api/client';

/** Who is signed in; fails where nobody is. */
export function useSession() {
  return useQuery({ queryKey: ['session'], queryFn: () => answer(api.GET('/api/v1/session')), retry: false });
}

/** A role, as the service names it. */
export type Role = Schema['Session']['role'];

/** Whether who is signed in may do what a role may; the service decides, and refuses in any case. */
export function useMay(role: Role): boolean {
  return useSession().data?.may.includes(role) ?? false;
}

/** All sites. */
export function useSites(enabled = true) {
  return useQuery({ queryKey: ['sites'], queryFn: async () => (await answer(api.GET('/api/v1/sites')))?.items ?? [], enabled });
}

/** The number of the site that the address bar names. */
export function useSiteId(): number {
  return Number(useParams().site);
}

/** What is at a site, in figures. */
export function useOverview(site: number) {
  return useQuery({
    queryKey: ['overview', site],
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/overview', { params: { path: { site } } })),
    refetchInterval: 10_000,
  });
}
