/** What the devices page shows. It lives in the address bar, so that a link shows a colleague the same. */
export interface DeviceFilter {
  standing: ('managed' | 'unmanaged' | 'missing' | 'set aside')[];
  presence: ('seen' | 'silent' | 'uncovered')[];
  kind: string[];
  contested: boolean;
  trait: string;
  text: string;
  sort: 'address' | 'name' | 'kind' | 'vendor' | 'model' | 'os' | 'mac' | 'standing' | 'presence' | 'firstSeen' | 'lastSeen';
  descend: boolean;
  page: number;
  size: number;
  /** The columns shown; undefined for those that fit the window. */
  columns: Column[] | undefined;
}

/** The columns there are, by the names that the service's export knows. */
export const columns = ['address', 'name', 'kind', 'vendor', 'model', 'os', 'standing', 'presence', 'mac', 'firstSeen', 'lastSeen', 'traits'] as const;
export type Column = (typeof columns)[number];

const standings = ['managed', 'unmanaged', 'missing', 'set aside'] as const;
const presences = ['seen', 'silent', 'uncovered'] as const;
const sorts = ['address', 'name', 'kind', 'vendor', 'model', 'os', 'mac', 'standing', 'presence', 'firstSeen', 'lastSeen'] as const;
const defaultSize = 50;

/** Reads a filter from the address bar; what it does not know is left out. */
export function readFilter(params: URLSearchParams): DeviceFilter {
  const list = (name: string) => (params.get(name) ?? '').split(',').filter(Boolean);
  const sort = sorts.find((s) => s === params.get('sort'));
  const number = (name: string) => Math.max(0, Math.floor(Number(params.get(name)) || 0));
  return {
    standing: standings.filter((s) => list('standing').includes(s)),
    presence: presences.filter((p) => list('presence').includes(p)),
    kind: list('kind'),
    contested: params.get('contested') === 'true',
    trait: params.get('trait') ?? '',
    text: params.get('text') ?? '',
    sort: sort ?? 'address',
    descend: params.get('descend') === 'true',
    page: number('page'),
    size: [25, 50, 100].includes(number('size')) ? number('size') : defaultSize,
    columns: params.has('columns') ? columns.filter((c) => list('columns').includes(c)) : undefined,
  };
}

/** Writes a filter for the address bar, leaving out what is as usual. */
export function writeFilter(f: DeviceFilter): URLSearchParams {
  const params = new URLSearchParams();
  if (f.standing.length) params.set('standing', f.standing.join(','));
  if (f.presence.length) params.set('presence', f.presence.join(','));
  if (f.kind.length) params.set('kind', f.kind.join(','));
  if (f.contested) params.set('contested', 'true');
  if (f.trait) params.set('trait', f.trait);
  if (f.text) params.set('text', f.text);
  if (f.sort !== 'address') params.set('sort', f.sort);
  if (f.descend) params.set('descend', 'true');
  if (f.page) params.set('page', String(f.page));
  if (f.size !== defaultSize) params.set('size', String(f.size));
  if (f.columns) params.set('columns', f.columns.join(','));
  return params;
}

/** What the service is asked for by a filter; the same for the list and for the export. */
export function filterQuery(f: DeviceFilter) {
  return {
    standing: f.standing, presence: f.presence, kind: f.kind, contested: f.contested || undefined, trait: f.trait || undefined,
    text: f.text || undefined, sort: f.sort, descend: f.descend || undefined,
  };
}

/** The address of the file with all devices that a filter lets through. */
export function exportAddress(site: number, f: DeviceFilter, shown: Column[]): string {
  const params = new URLSearchParams();
  for (const [name, value] of Object.entries(filterQuery(f))) {
    const text = Array.isArray(value) ? value.join(',') : String(value ?? '');
    if (text) params.set(name, text);
  }
  params.set('columns', shown.join(','));
  return `/api/v1/sites/${site}/devices.csv?${params.toString()}`;
}
