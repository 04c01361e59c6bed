import { Link } from 'react-router';

import { useSiteId } from '../app/queries';
import { visible } from '../lib/format';
import { words } from './words';

/** Leads to a device, by its name or else by its address. */
export function DeviceLink({ device, name, addr }: { device: number; name?: string; addr?: string }) {
  return (
    <Link className="link" to={`/sites/${useSiteId()}/devices/${device}`}>
      {visible(name || addr || words.deviceNumber(device))}
    </Link>
  );
}
