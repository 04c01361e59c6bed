import { useMediaQuery } from '@mui/material';
import { useTheme } from '@mui/material/styles';

import type { DeviceLine } from '../api/client';
import { Empty } from '../app/parts';
import type { LongList } from '../app/useLongList';
import type { DeviceFilter } from './filter';
import { words } from './words';

/** What shows a list of devices, as a table or as cards: those that a filter lets through. */
export interface ListProps {
  filter: DeviceFilter;
  change: (part: Partial<DeviceFilter>) => void;
  list: LongList<DeviceLine>;
  /** Takes down which device stands on top. */
  onAt: (at: number) => void;
}

/** Whether the window is as narrow as a phone's. */
export function usePhone(): boolean {
  return useMediaQuery(useTheme().breakpoints.down('sm'));
}

/** What is shown where no device passes. */
export function NoDevices() {
  return <Empty title={words.noDeviceIsLikeThis}>{words.removeAFilterOrStart}</Empty>;
}

/** Where a device is: the first of its addresses and how many there are besides, or what it is called behind another. */
export function placeOf(line: DeviceLine): string {
  const [first, ...others] = line.addresses;
  if (first === undefined) return line.unit || 'none';
  return others.length > 0 ? `${first} +${others.length}` : first;
}
