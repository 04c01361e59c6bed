import type { Field } from './fields';

/** What the devices page shows. It lives in the address bar, so that a link shows a colleague the same. */
export interface DeviceFilter {
  /** The values of which a device has to have one, by the names that filters have for fields. */
  where: Record<string, string[]>;
  text: string;
  sort: string;
  descend: boolean;
  /** The device that stands on top, counted from 0. */
  at: number;
  /** The names of the columns shown; undefined for those that fit the window. */
  columns: string[] | undefined;
}

/** The values that a filter asks for of a field; none where it asks for any. */
export const asked = (f: DeviceFilter, name: string): string[] => f.where[name] ?? [];

/** A filter that asks for other values of a field. */
export function asking(f: DeviceFilter, name: string, values: string[]): Pick<DeviceFilter, 'where'> {
  const where = Object.fromEntries(Object.entries(f.where).filter(([other]) => other !== name));
  return { where: values.length > 0 ? { ...where, [name]: values } : where };
}

/** Reads a filter from the address bar; what it does not know is left out. */
export function readFilter(params: URLSearchParams, fields: Field[]): DeviceFilter {
  const where: DeviceFilter['where'] = {};
  for (const { asked: name, choices } of fields) {
    if (name === undefined) continue;
    // What has choices stands with commas between; other values have commas in them, so that each stands by itself.
    const given = params.getAll(name).flatMap((value) => (choices ? value.split(',').filter((v) => choices.includes(v)) : [value]));
    if (given.some(Boolean)) where[name] = given.filter(Boolean);
  }
  const sort = params.get('sort');
  return {
    where,
    text: params.get('text') ?? '',
    sort: fields.find((f) => f.sorted && f.name === sort)?.name ?? 'address',
    descend: params.get('descend') === 'true',
    at: Math.max(0, Math.floor(Number(params.get('at')) || 0)),
    columns: readColumns(params.get('columns'), fields),
  };
}

/** Reads columns from their names with commas between; undefined where none was ever chosen. */
export function readColumns(names: string | null, fields: Field[]): string[] | undefined {
  if (names === null) return undefined;
  const chosen = names.split(',');
  return fields.filter((f) => f.listed && chosen.includes(f.name)).map((f) => f.name);
}

/** Writes a filter for the address bar, leaving out what is as usual. */
export function writeFilter(f: DeviceFilter, fields: Field[]): URLSearchParams {
  const params = new URLSearchParams();
  for (const { asked: name, choices } of fields) {
    const values = name === undefined ? [] : asked(f, name);
    if (name === undefined || values.length === 0) continue;
    if (choices) params.set(name, values.join(','));
    else for (const value of values) params.append(name, value);
  }
  if (f.text) params.set('text', f.text);
  if (f.sort !== 'address') params.set('sort', f.sort);
  if (f.descend) params.set('descend', 'true');
  if (f.at) params.set('at', String(f.at));
  if (f.columns) params.set('columns', f.columns.join(','));
  return params;
}

/** What the service is asked for by a filter; the same for the list and for the export. */
export function filterQuery(f: DeviceFilter): Record<string, string[] | string | boolean | undefined> {
  return { ...f.where, text: f.text || undefined, sort: f.sort, descend: f.descend || undefined };
}

/** A filter as the service saves it and goes by it. */
export function filterText(f: DeviceFilter, fields: Field[]): string {
  return writeFilter({ ...f, at: 0, columns: undefined }, fields).toString();
}

/** The address of the file with all devices that a filter lets through. */
export function exportAddress(site: number, f: DeviceFilter, fields: Field[], shown: string[]): string {
  const params = writeFilter({ ...f, at: 0, columns: shown }, fields);
  return `/api/v1/sites/${site}/devices.csv?${params.toString()}`;
}
