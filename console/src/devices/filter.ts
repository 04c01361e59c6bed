/** What the devices page shows. It lives in the address bar, so that a link shows a colleague the same. */
export interface DeviceFilter {
  standing: ('managed' | 'unmanaged' | 'missing' | 'set aside')[];
  presence: ('seen' | 'silent' | 'uncovered')[];
  kind: string[];
  vendor: string[];
  model: string[];
  os: string[];
  firmware: string[];
  /** Ports (tcp/80), names (http) or types (_ipp._tcp). */
  service: string[];
  group: string[];
  /** Of the site, by name. */
  network: string[];
  /** Whom the register names. */
  responsible: string[];
  /** Decibans that must speak for the kind. */
  strength: number;
  contested: boolean;
  trait: string;
  text: string;
  sort: 'address' | 'name' | 'kind' | 'vendor' | 'model' | 'os' | 'firmware' | 'strength' | 'mac' | 'standing' | 'presence' | 'firstSeen' | 'lastSeen';
  descend: boolean;
  /** The device that stands on top, counted from 0. */
  at: number;
  /** The columns shown; undefined for those that fit the window. */
  columns: Column[] | undefined;
}

/** The columns there are, by the names that the service's export knows. */
export const columns = [
  'address',
  'name',
  'kind',
  'vendor',
  'model',
  'os',
  'firmware',
  'strength',
  'standing',
  'presence',
  'mac',
  'firstSeen',
  'lastSeen',
  'group',
  'traits',
] as const;
export type Column = (typeof columns)[number];

const standings = ['managed', 'unmanaged', 'missing', 'set aside'] as const;
/** Whether the last sweep saw a device, looked and did not, or did not look. */
export const presences = ['seen', 'silent', 'uncovered'] as const;
const sorts = ['address', 'name', 'kind', 'vendor', 'model', 'os', 'firmware', 'strength', 'mac', 'standing', 'presence', 'firstSeen', 'lastSeen'] as const;

/** What devices can be told apart by besides kind and standing. Their values have commas in them, so each stands by itself. */
export const details = ['vendor', 'model', 'os', 'firmware', 'service', 'group', 'network', 'responsible'] as const;
export type Detail = (typeof details)[number];

/** Reads columns from their names with commas between; undefined where none was ever chosen. */
export function readColumns(names: string | null): Column[] | undefined {
  if (names === null) return undefined;
  const chosen = names.split(',');
  return columns.filter((c) => chosen.includes(c));
}

/** Reads a filter from the address bar; what it does not know is left out. */
export function readFilter(params: URLSearchParams): DeviceFilter {
  const list = (name: string) => (params.get(name) ?? '').split(',').filter(Boolean);
  const sort = sorts.find((s) => s === params.get('sort'));
  const number = (name: string) => Math.max(0, Math.floor(Number(params.get(name)) || 0));
  return {
    standing: standings.filter((s) => list('standing').includes(s)),
    presence: presences.filter((p) => list('presence').includes(p)),
    kind: list('kind'),
    vendor: params.getAll('vendor'),
    model: params.getAll('model'),
    os: params.getAll('os'),
    firmware: params.getAll('firmware'),
    service: params.getAll('service'),
    group: params.getAll('group'),
    network: params.getAll('network'),
    responsible: params.getAll('responsible'),
    strength: number('strength'),
    contested: params.get('contested') === 'true',
    trait: params.get('trait') ?? '',
    text: params.get('text') ?? '',
    sort: sort ?? 'address',
    descend: params.get('descend') === 'true',
    at: number('at'),
    columns: readColumns(params.get('columns')),
  };
}

/** Writes a filter for the address bar, leaving out what is as usual. */
export function writeFilter(f: DeviceFilter): URLSearchParams {
  const params = new URLSearchParams();
  if (f.standing.length) params.set('standing', f.standing.join(','));
  if (f.presence.length) params.set('presence', f.presence.join(','));
  if (f.kind.length) params.set('kind', f.kind.join(','));
  for (const detail of details) for (const value of f[detail]) params.append(detail, value);
  if (f.strength) params.set('strength', String(f.strength));
  if (f.contested) params.set('contested', 'true');
  if (f.trait) params.set('trait', f.trait);
  if (f.text) params.set('text', f.text);
  if (f.sort !== 'address') params.set('sort', f.sort);
  if (f.descend) params.set('descend', 'true');
  if (f.at) params.set('at', String(f.at));
  if (f.columns) params.set('columns', f.columns.join(','));
  return params;
}

/** What the service is asked for by a filter; the same for the list and for the export. */
export function filterQuery(f: DeviceFilter) {
  return {
    standing: f.standing,
    presence: f.presence,
    kind: f.kind,
    vendor: f.vendor,
    model: f.model,
    os: f.os,
    firmware: f.firmware,
    service: f.service,
    group: f.group,
    network: f.network,
    responsible: f.responsible,
    strength: f.strength || undefined,
    contested: f.contested || undefined,
    trait: f.trait || undefined,
    text: f.text || undefined,
    sort: f.sort,
    descend: f.descend || undefined,
  };
}

/** A filter as the service saves it and goes by it. */
export function filterText(f: DeviceFilter): string {
  const params = writeFilter({ ...f, at: 0, columns: undefined });
  return params.toString();
}

/** The address of the file with all devices that a filter lets through. */
export function exportAddress(site: number, f: DeviceFilter, shown: Column[]): string {
  const params = new URLSearchParams();
  for (const [name, value] of Object.entries(filterQuery(f))) {
    for (const each of Array.isArray(value) ? value : [value]) if (each !== undefined && each !== '') params.append(name, String(each));
  }
  params.set('columns', shown.join(','));
  return `/api/v1/sites/${site}/devices.csv?${params.toString()}`;
}
