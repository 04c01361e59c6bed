/** What the devices page shows. It lives in the address bar, so that a link shows a colleague the same. */
export interface DeviceFilter {
  standing: ('managed' | 'unmanaged' | 'missing')[];
  presence: ('seen' | 'silent' | 'uncovered')[];
  kind: string[];
  contested: boolean;
  text: string;
  sort: 'address' | 'name' | 'kind' | 'vendor' | 'model' | 'os' | 'mac' | 'standing' | 'presence' | 'firstSeen' | 'lastSeen';
  descend: boolean;
  page: number;
  size: number;
}

const standings = ['managed', 'unmanaged', 'missing'] as const;
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
    text: params.get('text') ?? '',
    sort: sort ?? 'address',
    descend: params.get('descend') === 'true',
    page: number('page'),
    size: [25, 50, 100].includes(number('size')) ? number('size') : defaultSize,
  };
}

/** Writes a filter for the address bar, leaving out what is as usual. */
export function writeFilter(f: DeviceFilter): URLSearchParams {
  const params = new URLSearchParams();
  if (f.standing.length) params.set('standing', f.standing.join(','));
  if (f.presence.length) params.set('presence', f.presence.join(','));
  if (f.kind.length) params.set('kind', f.kind.join(','));
  if (f.contested) params.set('contested', 'true');
  if (f.text) params.set('text', f.text);
  if (f.sort !== 'address') params.set('sort', f.sort);
  if (f.descend) params.set('descend', 'true');
  if (f.page) params.set('page', String(f.page));
  if (f.size !== defaultSize) params.set('size', String(f.size));
  return params;
}
