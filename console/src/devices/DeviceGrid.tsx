import { useCallback, useMemo, type ReactNode } from 'react';
import { Link } from 'react-router';

import type { DeviceLine } from '../api/client';
import { Confidence } from '../app/Confidence';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { LongTable, type LongColumn } from '../app/LongTable';
import { DeviceText, StandingTag } from '../app/parts';
import { useSiteId } from '../app/queries';
import { moment, number, visible } from '../lib/format';
import { NoDevices, placeOf, type ListProps } from './DeviceList';
import { valueOf, type Field } from './fields';
import { KindCell } from './kinds';
import { words } from './words';

/** The list of devices as a table. */
export function DeviceGrid({ filter, fields, shown, change, list, onAt }: ListProps & { fields: Field[]; shown: string[] }) {
  const site = useSiteId();
  const columns = useMemo(() => fields.filter((f) => shown.includes(f.name)).map((f) => columnOf(f, site)), [fields, shown, site]);
  const sort = useCallback((field: string, descend: boolean) => change({ sort: field, descend }), [change]);
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

/** How a field is drawn that is more than its text. */
const drawn: Record<string, (row: DeviceLine, site: number) => ReactNode> = {
  address: (row, site) => <Place row={row} site={site} />,
  kind: (row) => <KindCell kind={row.kind} />,
  strength: (row) => (row.strength > 0 ? <Confidence strength={row.strength} /> : ''),
  standing: (row) => (
    <>
      <StandingTag standing={row.standing} /> {row.presence === 'seen' ? '' : row.presence}
    </>
  ),
  mac: (row) => <DeviceText>{row.mac}</DeviceText>,
};

/** The least width of columns, in pixels, and their share of what is left over, where they are not as wide as most. */
const widths: Record<string, Pick<LongColumn<DeviceLine>, 'least' | 'share'>> = {
  address: { least: 134, share: 0.9 },
  name: { least: 100, share: 1.2 },
  kind: { least: 106, share: 0.9 },
  vendor: { least: 118, share: 1 },
  firmware: { least: 96, share: 0.7 },
  strength: { least: 170 },
  standing: { least: 114, share: 0.8 },
  mac: { least: 148 },
};

function columnOf(field: Field, site: number): LongColumn<DeviceLine> {
  const width = widths[field.name] ?? (field.type === 'time' ? { least: 186 } : { least: 110, share: 0.8 });
  const draw = drawn[field.name];
  return { field: field.name, head: field.heading, sortable: field.sorted, ...width, cell: (row) => (draw ? draw(row, site) : textOf(valueOf(row, field), field)) };
}

/** The value of a field as a text. */
function textOf(value: unknown, field: Field): string {
  if (Array.isArray(value)) return visible(value.join(', '));
  if (typeof value === 'string') return field.type === 'time' ? moment(value) : visible(value);
  return typeof value === 'number' ? number(value) : '';
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
