import { Button, Stack } from '@mui/material';
import { useState } from 'react';
import { useSearchParams } from 'react-router';

import { ActDialog, ActsDialog } from '../acts/ActDialog';
import { ViewsButton } from '../acts/ViewsButton';
import { words as actWords } from '../acts/words';
import { answer, api } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { Failure, Page } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { useLongList } from '../app/useLongList';
import { DeviceCards } from './DeviceCards';
import { ColumnsButton, useColumns } from './DeviceColumns';
import { DeviceFilters } from './DeviceFilters';
import { DeviceGrid } from './DeviceGrid';
import { usePhone } from './DeviceList';
import { useFields, type Field } from './fields';
import { exportAddress, filterQuery, filterText, readColumns, readFilter, writeFilter, type DeviceFilter } from './filter';
import { count } from '../lib/format';
import { words } from './words';

/** The site's devices, once it is known which fields they have. */
export function DevicesPage() {
  const fields = useFields(useSiteId());
  if (fields.data) return <Devices fields={fields.data} />;
  return (
    <Page title={words.devices}>
      <Failure failure={fields.error} />
    </Page>
  );
}

/** The site's devices: those that the address bar says, from the one it names. */
function Devices({ fields }: { fields: Field[] }) {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const filter = readFilter(params, fields);
  // Each choice is a step that Back takes back; the letters of a search are one step together.
  const change = (part: Partial<DeviceFilter>) => {
    const typing = part.text !== undefined && part.text !== '' && filter.text !== '';
    setParams(writeFilter({ ...filter, at: 0, ...part }, fields), { replace: typing });
  };
  const onAt = (at: number) => setParams((now) => writeFilter({ ...readFilter(now, fields), at }, fields), { replace: true });
  const query = filterQuery(filter);
  const list = useLongList(
    keys.devices(site, query),
    (skip, limit, signal) => answer(api.GET('/api/v1/sites/{site}/devices', { params: { path: { site }, query: { ...query, skip, limit } }, signal })),
    filter.at,
  );
  const [usual, keepColumns] = useColumns(fields);
  const shown = filter.columns ?? usual;
  const showColumns = (chosen: string[] | undefined) => {
    keepColumns(chosen);
    change({ columns: chosen, at: filter.at });
  };
  const mayAct = useMay('sweep');
  const List = usePhone() ? DeviceCards : DeviceGrid;
  return (
    <Page
      title={words.devices}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap' }}>
          <ViewsButton
            filter={filterText(filter, fields)}
            columns={shown}
            onApply={(saved, columns) =>
              setParams(
                writeFilter({ ...readFilter(new URLSearchParams(saved), fields), at: 0, columns: columns.length > 0 ? readColumns(columns.join(','), fields) : undefined }, fields),
              )
            }
          />
          {mayAct && <ActButton filter={filterText(filter, fields)} total={list.total} />}
          {List === DeviceGrid && <ColumnsButton fields={fields} shown={shown} onShown={showColumns} />}
          <Button startIcon={<Icon of={icons.download} />} href={exportAddress(site, filter, fields, shown)} download="devices.csv">
            {words.csv}
          </Button>
        </Stack>
      }
    >
      <DeviceFilters filter={filter} fields={fields} change={change} />
      <Failure failure={list.error} />
      {!(list.error && list.total === undefined) && <List key={JSON.stringify(query)} filter={filter} fields={fields} shown={shown} change={change} list={list} onAt={onAt} />}
    </Page>
  );
}

/** Acts on all devices that the filter shows, and takes back what was done. */
function ActButton({ filter, total }: { filter: string; total: number | undefined }) {
  const [open, setOpen] = useState<'act' | 'acts'>();
  return (
    <>
      <Button startIcon={<Icon of={icons.editNote} />} disabled={!total} onClick={() => setOpen('act')}>
        {actWords.actOnAll}
      </Button>
      <Button startIcon={<Icon of={icons.undo} />} onClick={() => setOpen('acts')}>
        {actWords.acts}
      </Button>
      {open === 'act' && (
        <ActDialog
          title={actWords.onAllThatIsShown(count(total ?? 0, 'device'))}
          kinds={['set-aside', 'note', 'group', 'register', 'take', 'keep-register']}
          meant={{ filter }}
          onClose={() => setOpen(undefined)}
        />
      )}
      {open === 'acts' && <ActsDialog onClose={() => setOpen(undefined)} />}
    </>
  );
}
