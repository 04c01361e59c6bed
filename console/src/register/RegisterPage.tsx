import { Button, FormControlLabel, Link, Stack, Switch } from '@mui/material';
import { useState } from 'react';
import { Link as RouterLink, useSearchParams } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { LongTable, type LongColumn } from '../app/LongTable';
import { DeviceText, Empty, Failure, Page } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { useLongList } from '../app/useLongList';
import { moment, visible } from '../lib/format';
import { EntryDialog } from './EntryDialog';
import { ImportPanel } from './ImportPanel';
import { words } from './words';

type Entry = Schema['Entry'];

/** The register, and its import. */
export function RegisterPage() {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const missing = params.get('missing') === 'true';
  const register = useLongList(keys.register(site, missing), (skip, limit, signal) =>
    answer(api.GET('/api/v1/sites/{site}/register', { params: { path: { site }, query: { missing: missing || undefined, skip, limit } }, signal })),
  );
  const [open, setOpen] = useState<Entry | 'new'>();
  const may = useMay('sweep');
  return (
    <Page
      title={words.register}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          <FormControlLabel control={<Switch checked={missing} onChange={(e) => setParams(e.target.checked ? { missing: 'true' } : {})} />} label={words.neverAnswered} />
          <Button startIcon={<Icon of={icons.download} />} href={`/api/v1/sites/${site}/register.csv`} download="register.csv">
            {words.csv}
          </Button>
          {may && (
            <Button variant="contained" startIcon={<Icon of={icons.add} />} onClick={() => setOpen('new')}>
              {words.addADevice}
            </Button>
          )}
        </Stack>
      }
    >
      {may && <ImportPanel site={site} />}
      <Failure failure={register.error} />
      <LongTable
        key={String(missing)}
        label={words.register}
        list={register}
        columns={columns(site, may ? setOpen : undefined)}
        none={<NoEntries />}
        height="calc(100vh - 380px)"
      />
      {open && <EntryDialog site={site} entry={open === 'new' ? undefined : open} onClose={() => setOpen(undefined)} />}
    </Page>
  );
}

function NoEntries() {
  return <Empty title={words.theRegisterIsEmpty}>{words.importTheListOfDevices}</Empty>;
}

/** What became of an entry: the device that it means, or that none has answered yet. */
function Holder({ site, entry }: { site: number; entry: Entry }) {
  if (!entry.device) return null;
  const to = `/sites/${site}/devices/${entry.device}`;
  if (entry.lastSeen) {
    return (
      <Link component={RouterLink} to={to}>
        {entry.presence === 'seen' ? words.seen : entry.presence} {moment(entry.lastSeen)}
      </Link>
    );
  }
  const could = entry.could?.length ?? 0;
  return (
    <Link component={RouterLink} to={to} color={could ? 'warning.main' : undefined}>
      {could ? words.couldBeOneOf(could) : words.hasNotAnsweredYet}
    </Link>
  );
}

/** What an entry is called, which opens it for who may change it. */
function Opening({ entry, onOpen }: { entry: Entry; onOpen: ((entry: Entry) => void) | undefined }) {
  const name = visible(entry.name || entry.address || entry.mac || '');
  if (!onOpen) return name;
  return (
    <Link component="button" variant="body2" onClick={() => onOpen(entry)} sx={{ maxWidth: '100%', overflow: 'hidden', textOverflow: 'ellipsis', verticalAlign: 'middle' }}>
      {name}
    </Link>
  );
}

const columns = (site: number, onOpen: ((entry: Entry) => void) | undefined): LongColumn<Entry>[] => [
  { field: 'device', head: words.onTheNetwork, least: 236, cell: (row) => <Holder site={site} entry={row} /> },
  { field: 'name', head: words.name, least: 160, share: 1.2, cell: (row) => <Opening entry={row} onOpen={onOpen} /> },
  { field: 'mac', head: words.mac, least: 150, cell: (row) => <DeviceText>{row.mac}</DeviceText> },
  { field: 'address', head: words.address, least: 130, cell: (row) => <DeviceText>{row.address}</DeviceText> },
  { field: 'vendor', head: words.maker, least: 140, share: 1, cell: (row) => visible(row.vendor ?? '') },
  { field: 'model', head: words.model, least: 110, share: 0.8, cell: (row) => visible(row.model ?? '') },
  { field: 'kind', head: words.kind, least: 110, share: 0.8, cell: (row) => visible(row.kind ?? '') },
  { field: 'location', head: words.location, least: 110, share: 0.8, cell: (row) => visible(row.location ?? '') },
  { field: 'responsible', head: words.responsible, least: 110, share: 0.8, cell: (row) => visible(row.responsible ?? '') },
  { field: 'note', head: words.note, least: 120, share: 1, cell: (row) => visible(row.note ?? '') },
];
