import { useQuery } from '@tanstack/react-query';

import { answer, api, type DeviceLine, type Schema } from '../api/client';
import { keys } from '../app/keys';

/** One field of devices, as the service's catalogue has it: lists, filters and columns go by it. */
export type Field = Schema['Field'];

/** The fields that devices of a site have; they stay as they are while the service runs. */
export function useFields(site: number) {
  return useQuery({
    queryKey: keys.fields(site),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/fields', { params: { path: { site } } }))).items,
    staleTime: Infinity,
  });
}

/** The fields that lists can have as columns on a screen, where each row leads to its device without its number. */
export function columnsOf(fields: Field[]): Field[] {
  return fields.filter((f) => f.listed && f.key !== 'id');
}

/** The value of a field in a line of a list, as the API has it. */
export function valueOf(line: DeviceLine, field: Field): unknown {
  return (line as unknown as Record<string, unknown>)[field.key];
}
