import { useCallback, useMemo } from 'react';
import { Link } from 'react-router';

import type { DeviceLine } from '../api/client';
import { Confidence } from '../app/Confidence';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { LongTable, type LongColumn } from '../app/LongTable';
import { DeviceText, StandingTag } from '../app/parts';
import { useSiteId } from '../app/queries';
import { moment, visible } from '../lib/format';
import { columnNames } from './DeviceColumns';
import { NoDevices, placeOf, type ListProps } from './DeviceList';
import type { Column, DeviceFilter } from './filter';
import { KindCell } from './kinds';
import { words } from './words';

/** The list of devices as a table. */
export function DeviceGrid({ filter, shown, change, list, onAt }: ListProps & { shown: Column[] }) {
  const site = useSiteId();
  const columns = useMemo(() => shown.map((c) => ({ field: c, head: columnNames[c], ...columnOf(c, site) })), [shown, site]);
  const sort = useCallback((field: string, descend: boolean) => change({ sort: field as DeviceFilter['sort'], descend }), [change]);
  return (
    <LongTable
      label={words.devices}
      list={list}
      columns={columns}
      sort={{ field: filter.sort, descend: filter.descend, change: sort }}
      at={filter.at}
      onAt={onAt}
      none={<NoDevices />}
      height="calc(100vh - 240px)"
    />
  );
}

function columnOf(column: Column, site: number): Omit<LongColumn<DeviceLine>, 'field' | 'head'> {
  switch (column) {
    case 'address':
      return { least: 134, share: 0.9, cell: (row) => <Place row={row} site={site} /> };
    case 'name':
      return { least: 100, share: 1.2, cell: (row) => visible(row.name ?? '') };
    case 'kind':
      return { least: 106, share: 0.9, cell: (row) => <KindCell kind={row.kind} /> };
    case 'vendor':
      return { least: 118, share: 1, cell: (row) => visible(row.vendor ?? '') };
    case 'model':
      return { least: 110, share: 0.8, cell: (row) => visible(row.model ?? '') };
    case 'os':
      return { least: 110, share: 0.8, cell: (row) => visible(row.os ?? '') };
    case 'firmware':
      return { least: 96, share: 0.7, cell: (row) => visible(row.firmware ?? '') };
    case 'strength':
      return { least: 170, cell: (row) => (row.strength > 0 ? <Confidence strength={row.strength} /> : '') };
    case 'standing':
      return {
        least: 114,
        share: 0.8,
        cell: (row) => (
          <>
            <StandingTag standing={row.standing} /> {row.presence === 'seen' ? '' : row.presence}
          </>
        ),
      };
    case 'presence':
      return { least: 110, cell: (row) => row.presence };
    case 'mac':
      return { least: 148, cell: (row) => <DeviceText>{row.mac}</DeviceText> };
    case 'firstSeen':
      return { least: 172, cell: (row) => moment(row.firstSeen) };
    case 'lastSeen':
      return { least: 172, cell: (row) => moment(row.lastSeen) };
    case 'group':
      return { least: 110, share: 0.7, sortable: false, cell: (row) => visible(row.group ?? '') };
    case 'traits':
      return { least: 130, share: 1, sortable: false, cell: (row) => row.traits.join(', ') };
  }
}

function Place({ row, site }: { row: DeviceLine; site: number }) {
  return (
    <>
      {row.contested && <Icon of={icons.warningAmber} title={words.anotherDeviceAnswersAtThis} colour="var(--mui-palette-warning-main)" size={16} />}
      {row.traits.length > 0 && <Icon of={icons.info} title={row.traits.join(', ')} colour="var(--mui-palette-text-secondary)" size={16} />}
      <Link className="link" to={`/sites/${site}/devices/${row.id}`}>
        <DeviceText>{placeOf(row)}</DeviceText>
      </Link>
    </>
  );
}
