import { useMutation } from '@tanstack/react-query';

import { aboutDevices, useOutdated } from '../app/keys';

/** Carries out a change of a device, and reads everything anew that shows it. */
export function useChange<T>(change: (value: T) => Promise<unknown>, then?: () => void) {
  const outdated = useOutdated();
  return useMutation({
    mutationFn: change,
    onSuccess: async () => {
      await outdated(...aboutDevices);
      then?.();
    },
  });
}
