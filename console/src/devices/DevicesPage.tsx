import CheckedIcon from '@mui/icons-material/CheckBoxOutlined';
import ColumnsIcon from '@mui/icons-material/ViewColumnOutlined';
import FilterIcon from '@mui/icons-material/FilterAltOutlined';
import DownloadIcon from '@mui/icons-material/DownloadOutlined';
import InfoIcon from '@mui/icons-material/InfoOutlined';
import SearchIcon from '@mui/icons-material/SearchOutlined';
import UncheckedIcon from '@mui/icons-material/CheckBoxOutlineBlankOutlined';
import WarningIcon from '@mui/icons-material/WarningAmberOutlined';
import { Autocomplete, Button, Chip, InputAdornment, Link, ListItemText, Menu, MenuItem, Paper, Stack, TextField, ToggleButton, ToggleButtonGroup, useMediaQuery } from '@mui/material';
import { useTheme } from '@mui/material/styles';
import { DataGrid, type GridColDef, type GridPaginationModel, type GridSortModel } from '@mui/x-data-grid';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Link as RouterLink, useNavigate, useSearchParams } from 'react-router';

import { answer, api, type DeviceLine, type Schema } from '../api/client';
import { DeviceText, Empty, Failure, FormDialog, Page, StandingChip } from '../app/parts';
import { useSiteId } from '../app/queries';
import { moment, visible } from '../lib/format';
import { KindCell, kindLabel, kinds } from './kinds';
import { columns, details, exportAddress, filterQuery, readFilter, writeFilter, type Column, type Detail, type DeviceFilter } from './filter';

/** The site's devices: a page of them at a time, as the address bar says. */
export function DevicesPage() {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const filter = readFilter(params);
  const change = (part: Partial<DeviceFilter>) => setParams(writeFilter({ ...filter, page: 0, ...part }), { replace: true });
  const query = { ...filterQuery(filter), limit: filter.size };
  const list = useInfiniteQuery({
    queryKey: ['devices', site, query],
    queryFn: ({ pageParam }) => answer(api.GET('/api/v1/sites/{site}/devices', { params: { path: { site }, query: { ...query, cursor: pageParam } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page?.next,
    placeholderData: keepPreviousData,
  });
  // Each page tells where the next one begins: those before the one that the address names come first.
  const { data, hasNextPage, isFetching, isPlaceholderData, error, fetchNextPage } = list;
  const known = data?.pages.length ?? 0;
  const behind = !isPlaceholderData && known > 0 && known <= filter.page;
  useEffect(() => {
    if (behind && hasNextPage && !isFetching && !error) void fetchNextPage();
  }, [behind, hasNextPage, isFetching, error, fetchNextPage]);
  const page = Math.max(0, Math.min(filter.page, known - 1));
  const usual = useUsualColumns();
  const shown = filter.columns ?? usual;
  return (
    <Page
      title="Devices"
      actions={
        <Stack direction="row" spacing={1}>
          <ColumnsButton shown={shown} onShown={(columns) => change({ columns, page: filter.page })} />
          <Button startIcon={<DownloadIcon />} href={exportAddress(site, filter, shown)} download="devices.csv">
            CSV
          </Button>
        </Stack>
      }
    >
      <Filters filter={filter} change={change} />
      <Failure failure={list.error} />
      <Grid site={site} filter={filter} shown={shown} change={change} list={data?.pages[page]} total={data?.pages[0]?.total} page={page} loading={isFetching} />
    </Page>
  );
}

/** The columns that fit the window. */
function useUsualColumns(): Column[] {
  const theme = useTheme();
  const medium = useMediaQuery(theme.breakpoints.up('sm'));
  const wide = useMediaQuery(theme.breakpoints.up('lg'));
  if (!medium) return ['address', 'kind', 'standing'];
  if (!wide) return ['address', 'name', 'kind', 'vendor', 'standing'];
  return ['address', 'name', 'kind', 'vendor', 'model', 'standing', 'lastSeen'];
}

const columnNames: Record<Column, string> = {
  address: 'Address', name: 'Name', kind: 'Kind', vendor: 'Vendor', model: 'Model', os: 'System', firmware: 'Firmware', strength: 'Strength', standing: 'Standing', presence: 'Presence',
  mac: 'MAC', firstSeen: 'First seen', lastSeen: 'Last seen', group: 'Group', traits: 'Mind',
};

function ColumnsButton({ shown, onShown }: { shown: Column[]; onShown: (columns: Column[]) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement>();
  const toggle = (c: Column) => onShown(columns.filter((each) => (each === c ? !shown.includes(c) : shown.includes(each))));
  return (
    <>
      <Button startIcon={<ColumnsIcon />} aria-haspopup="menu" onClick={(e) => setAnchor(e.currentTarget)}>
        Columns
      </Button>
      <Menu open={anchor !== undefined} anchorEl={anchor} onClose={() => setAnchor(undefined)} slotProps={{ paper: { role: 'dialog', 'aria-label': 'Columns to show' }, list: { dense: true, 'aria-label': 'Columns' } }}>
        {columns.map((c) => (
          <MenuItem key={c} role="menuitemcheckbox" aria-checked={shown.includes(c)} onClick={() => toggle(c)}>
            {shown.includes(c) ? <CheckedIcon fontSize="small" sx={{ mr: 1 }} /> : <UncheckedIcon fontSize="small" sx={{ mr: 1 }} />}
            <ListItemText primary={columnNames[c]} />
          </MenuItem>
        ))}
      </Menu>
    </>
  );
}

function Filters({ filter, change }: { filter: DeviceFilter; change: (part: Partial<DeviceFilter>) => void }) {
  return (
    <Stack direction={{ xs: 'column', lg: 'row' }} spacing={2} useFlexGap sx={{ alignItems: { lg: 'center' }, flexWrap: { lg: 'wrap' } }}>
      <ToggleButtonGroup size="small" value={filter.standing} onChange={(_, standing: DeviceFilter['standing']) => change({ standing })} aria-label="Standing">
        <ToggleButton value="unmanaged">unmanaged</ToggleButton>
        <ToggleButton value="managed">managed</ToggleButton>
        <ToggleButton value="missing">missing</ToggleButton>
        <ToggleButton value="set aside">set aside</ToggleButton>
      </ToggleButtonGroup>
      <SearchField text={filter.text} onText={(text) => change({ text })} />
      <Autocomplete
        multiple
        size="small"
        options={kinds}
        value={filter.kind}
        onChange={(_, kind) => change({ kind })}
        getOptionLabel={kindLabel}
        renderInput={(input) => <TextField {...input} label="Kinds" />}
        sx={{ minWidth: 220, flex: { lg: '1 1 220px' }, maxWidth: { lg: 380 } }}
      />
      <MoreButton filter={filter} change={change} />
      {details.flatMap((detail) =>
        filter[detail].map((value) => (
          <Chip key={detail + value} label={`${detailNames[detail]}: ${visible(value)}`} onDelete={() => change({ [detail]: filter[detail].filter((v) => v !== value) })} />
        )),
      )}
      {filter.strength > 0 && <Chip label={`at least ${filter.strength} dB`} onDelete={() => change({ strength: 0 })} />}
      {filter.presence.map((p) => (
        <Chip key={p} label={p} onDelete={() => change({ presence: [] })} />
      ))}
      {filter.trait && <Chip label={filter.trait} onDelete={() => change({ trait: '' })} />}
      {filter.contested && <Chip label="share an address" onDelete={() => change({ contested: false })} />}
    </Stack>
  );
}

const detailNames: Record<Detail, string> = { vendor: 'Vendor', model: 'Model', os: 'System', firmware: 'Firmware', service: 'Service', group: 'Group' };

/** Opens a dialog with what devices can be told apart by besides kind and standing. */
function MoreButton({ filter, change }: { filter: DeviceFilter; change: (part: Partial<DeviceFilter>) => void }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button startIcon={<FilterIcon />} onClick={() => setOpen(true)}>
        More filters
      </Button>
      {open && <MoreDialog filter={filter} change={change} onClose={() => setOpen(false)} />}
    </>
  );
}

function MoreDialog({ filter, change, onClose }: { filter: DeviceFilter; change: (part: Partial<DeviceFilter>) => void; onClose: () => void }) {
  const site = useSiteId();
  const [chosen, setChosen] = useState(filter);
  const values = useQuery({ queryKey: ['values', site], queryFn: () => answer(api.GET('/api/v1/sites/{site}/values', { params: { path: { site } } })) });
  return (
    <FormDialog
      title="Only devices of which this is believed"
      does="Show"
      failure={values.error}
      busy={false}
      onSubmit={() => {
        change({ ...Object.fromEntries(details.map((d) => [d, chosen[d]])), strength: chosen.strength });
        onClose();
      }}
      onClose={onClose}
    >
      {details.map((detail) => (
        <Autocomplete
          key={detail}
          multiple
          freeSolo
          size="small"
          options={values.data?.[detail] ?? []}
          getOptionLabel={visible}
          value={chosen[detail]}
          onChange={(_, value) => setChosen({ ...chosen, [detail]: value })}
          renderInput={(input) => <TextField {...input} label={detailNames[detail]} helperText={detail === 'service' ? 'A port (tcp/80), a name (http) or a type (_ipp._tcp)' : undefined} />}
        />
      ))}
      <TextField
        size="small"
        type="number"
        label="Strength of the kind, at least"
        value={chosen.strength || ''}
        onChange={(e) => setChosen({ ...chosen, strength: Math.max(0, Number(e.target.value) || 0) })}
        helperText="In decibans: 10 are odds of 10 to 1, 20 of 100 to 1"
      />
    </FormDialog>
  );
}

/** The search waits until somebody pauses in typing. */
function SearchField({ text, onText }: { text: string; onText: (text: string) => void }) {
  const [typed, setTyped] = useState(text);
  useEffect(() => {
    if (typed === text) return;
    const timer = setTimeout(() => onText(typed), 300);
    return () => clearTimeout(timer);
  }, [typed, text, onText]);
  return (
    <TextField
      size="small"
      label="Search"
      placeholder="name, address, MAC, maker, title"
      value={typed}
      onChange={(e) => setTyped(e.target.value)}
      slotProps={{
        input: {
          startAdornment: (
            <InputAdornment position="start">
              <SearchIcon fontSize="small" />
            </InputAdornment>
          ),
        },
      }}
      sx={{ flex: { lg: '1 1 240px' }, maxWidth: { lg: 420 } }}
    />
  );
}

interface GridProps {
  site: number;
  filter: DeviceFilter;
  shown: Column[];
  change: (part: Partial<DeviceFilter>) => void;
  list: Schema['ListDeviceLine'] | undefined;
  total: number | undefined;
  page: number;
  loading: boolean;
}

function Grid({ site, filter, shown, change, list, total, page, loading }: GridProps) {
  const navigate = useNavigate();
  return (
    <Paper variant="outlined" sx={{ height: 'calc(100vh - 240px)', minHeight: 420 }}>
      <DataGrid
        rows={list?.items ?? []}
        columns={gridColumns(site)}
        columnVisibilityModel={Object.fromEntries(columns.map((c) => [c, shown.includes(c)]))}
        rowCount={total ?? -1}
        loading={loading}
        density="compact"
        disableColumnFilter
        disableColumnMenu
        disableRowSelectionOnClick
        paginationMode="server"
        sortingMode="server"
        pageSizeOptions={[25, 50, 100]}
        paginationModel={{ page, pageSize: filter.size }}
        onPaginationModelChange={(m: GridPaginationModel) => change(m.pageSize === filter.size ? { page: m.page } : { size: m.pageSize })}
        sortModel={[{ field: filter.sort, sort: filter.descend ? 'desc' : 'asc' }]}
        sortingOrder={['asc', 'desc']}
        onSortModelChange={(m: GridSortModel) => change({ sort: (m[0]?.field ?? 'address') as DeviceFilter['sort'], descend: m[0]?.sort === 'desc' })}
        onRowDoubleClick={(row) => void navigate(`/sites/${site}/devices/${row.id}`)}
        slots={{ noRowsOverlay: NoDevices }}
        sx={{ border: 0 }}
      />
    </Paper>
  );
}

function NoDevices() {
  return <Empty title="No device is like this">Remove a filter, or start a sweep.</Empty>;
}

/** The first of a device's addresses, and how many there are besides. */
function few(addresses: string[]): string {
  if (addresses.length <= 1) return addresses[0] ?? 'none';
  return `${addresses[0]} +${addresses.length - 1}`;
}

function gridColumns(site: number): GridColDef<DeviceLine>[] {
  const head = (field: Column): { field: Column; headerName: string } => ({ field, headerName: columnNames[field] });
  return [
    {
      ...head('address'), flex: 0.9, minWidth: 134, valueGetter: (_, row) => row.addresses.join(', ') || row.unit,
      renderCell: ({ row }) => (
        <>
          {row.contested && <WarningIcon titleAccess="Another device answers at this address too" color="warning" sx={{ fontSize: 16, mr: 0.5, verticalAlign: 'text-bottom' }} />}
          {row.traits.length > 0 && <InfoIcon titleAccess={row.traits.join(', ')} color="action" sx={{ fontSize: 16, mr: 0.5, verticalAlign: 'text-bottom' }} />}
          <Link component={RouterLink} to={`/sites/${site}/devices/${row.id}`}>
            <DeviceText>{row.addresses.length === 0 && row.unit ? row.unit : few(row.addresses)}</DeviceText>
          </Link>
        </>
      ),
    },
    { ...head('name'), flex: 1.2, minWidth: 100, renderCell: ({ row }) => visible(row.name ?? '') },
    {
      ...head('kind'), flex: 0.9, minWidth: 106,
      renderCell: ({ row }) => (
        <KindCell kind={row.kind} />
      ),
    },
    { ...head('vendor'), flex: 1, minWidth: 118, renderCell: ({ row }) => visible(row.vendor ?? '') },
    { ...head('model'), flex: 0.8, minWidth: 110, renderCell: ({ row }) => visible(row.model ?? '') },
    { ...head('os'), flex: 0.8, minWidth: 110, renderCell: ({ row }) => visible(row.os ?? '') },
    { ...head('firmware'), flex: 0.7, minWidth: 96, renderCell: ({ row }) => visible(row.firmware ?? '') },
    { ...head('strength'), width: 96, align: 'right', headerAlign: 'right', renderCell: ({ row }) => (row.strength ? `${row.strength} dB` : '') },
    {
      ...head('standing'), flex: 0.8, minWidth: 114,
      renderCell: ({ row }) => (
        <>
          <StandingChip standing={row.standing} /> {row.presence === 'seen' ? '' : row.presence}
        </>
      ),
    },
    { ...head('presence'), width: 110 },
    { ...head('mac'), width: 148, renderCell: ({ row }) => <DeviceText>{row.mac}</DeviceText> },
    { ...head('firstSeen'), width: 148, renderCell: ({ row }) => moment(row.firstSeen) },
    { ...head('lastSeen'), width: 148, renderCell: ({ row }) => moment(row.lastSeen) },
    { ...head('group'), flex: 0.7, minWidth: 110, sortable: false, renderCell: ({ row }) => visible(row.group ?? '') },
    { ...head('traits'), flex: 1, minWidth: 130, sortable: false, renderCell: ({ row }) => row.traits.join(', ') },
  ];
}
