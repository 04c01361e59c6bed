import SearchIcon from '@mui/icons-material/SearchOutlined';
import WarningIcon from '@mui/icons-material/WarningAmberOutlined';
import { Autocomplete, Box, Chip, InputAdornment, Link, Paper, Stack, TextField, ToggleButton, ToggleButtonGroup } from '@mui/material';
import { DataGrid, type GridColDef, type GridPaginationModel, type GridSortModel } from '@mui/x-data-grid';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { Link as RouterLink, useNavigate, useSearchParams } from 'react-router';

import { answer, api, type DeviceLine } from '../api/client';
import { DeviceText, Empty, Failure, Page, StandingChip } from '../app/parts';
import { useSiteId } from '../app/queries';
import { moment, visible } from '../lib/format';
import { KindIcon, kindLabel, kinds } from './kinds';
import { readFilter, writeFilter, type DeviceFilter } from './filter';

/** The site's devices: a page of them at a time, as the address bar says. */
export function DevicesPage() {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const filter = readFilter(params);
  const change = (part: Partial<DeviceFilter>) => setParams(writeFilter({ ...filter, page: 0, ...part }), { replace: true });
  const list = useQuery({
    queryKey: ['devices', site, filter],
    queryFn: () =>
      answer(
        api.GET('/api/v1/sites/{site}/devices', {
          params: {
            path: { site },
            query: {
              standing: filter.standing, presence: filter.presence, kind: filter.kind, contested: filter.contested || undefined,
              text: filter.text || undefined, sort: filter.sort, descend: filter.descend || undefined,
              offset: filter.page * filter.size, limit: filter.size,
            },
          },
          // The service reads lists parted by commas.
          querySerializer: { array: { style: 'form', explode: false } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  return (
    <Page title="Devices">
      <Filters filter={filter} change={change} />
      <Failure failure={list.error} />
      <Grid site={site} filter={filter} change={change} rows={list.data?.devices ?? []} total={list.data?.total ?? 0} loading={list.isFetching} />
    </Page>
  );
}

function Filters({ filter, change }: { filter: DeviceFilter; change: (part: Partial<DeviceFilter>) => void }) {
  return (
    <Stack direction={{ xs: 'column', lg: 'row' }} spacing={2} sx={{ alignItems: { lg: 'center' } }}>
      <ToggleButtonGroup size="small" value={filter.standing} onChange={(_, standing: DeviceFilter['standing']) => change({ standing })} aria-label="Standing">
        <ToggleButton value="unmanaged">unmanaged</ToggleButton>
        <ToggleButton value="managed">managed</ToggleButton>
        <ToggleButton value="missing">missing</ToggleButton>
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
        sx={{ minWidth: 220, flex: '1 1 220px', maxWidth: { lg: 380 } }}
      />
      {filter.presence.map((p) => (
        <Chip key={p} label={p} onDelete={() => change({ presence: [] })} />
      ))}
      {filter.contested && <Chip label="share an address" onDelete={() => change({ contested: false })} />}
    </Stack>
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
      sx={{ flex: '1 1 240px', maxWidth: { lg: 420 } }}
    />
  );
}

interface GridProps {
  site: number;
  filter: DeviceFilter;
  change: (part: Partial<DeviceFilter>) => void;
  rows: DeviceLine[];
  total: number;
  loading: boolean;
}

function Grid({ site, filter, change, rows, total, loading }: GridProps) {
  const navigate = useNavigate();
  return (
    <Paper variant="outlined" sx={{ height: 'calc(100vh - 240px)', minHeight: 420 }}>
      <DataGrid
        rows={rows}
        columns={columns(site)}
        rowCount={total}
        loading={loading}
        density="compact"
        disableColumnFilter
        disableColumnMenu
        disableRowSelectionOnClick
        paginationMode="server"
        sortingMode="server"
        pageSizeOptions={[25, 50, 100]}
        paginationModel={{ page: filter.page, pageSize: filter.size }}
        onPaginationModelChange={(m: GridPaginationModel) => change({ page: m.page, size: m.pageSize })}
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
  return <Empty title="No device is like this">Take a filter away, or start a sweep.</Empty>;
}

function columns(site: number): GridColDef<DeviceLine>[] {
  return [
    {
      field: 'address', headerName: 'Address', width: 132, valueGetter: (_, row) => row.addresses.join(', '),
      renderCell: ({ row }) => (
        <>
          <Link component={RouterLink} to={`/sites/${site}/devices/${row.id}`}>
            <DeviceText>{row.addresses.join(', ') || 'none'}</DeviceText>
          </Link>
          {row.contested && <WarningIcon titleAccess="Another device answers at this address too" color="warning" sx={{ fontSize: 16, ml: 0.5, verticalAlign: 'text-bottom' }} />}
        </>
      ),
    },
    { field: 'name', headerName: 'Name', flex: 1.2, minWidth: 100, renderCell: ({ row }) => visible(row.name ?? '') },
    {
      field: 'kind', headerName: 'Kind', width: 158,
      renderCell: ({ row }) => (
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, height: '100%' }}>
          <KindIcon kind={row.kind} /> {kindLabel(row.kind)}
        </Box>
      ),
    },
    { field: 'vendor', headerName: 'Vendor', flex: 1, minWidth: 118, renderCell: ({ row }) => visible(row.vendor ?? '') },
    {
      field: 'standing', headerName: 'Standing', width: 145,
      renderCell: ({ row }) => (
        <>
          <StandingChip standing={row.standing} /> {row.presence === 'seen' ? '' : row.presence}
        </>
      ),
    },
    { field: 'mac', headerName: 'MAC', width: 148, renderCell: ({ row }) => <DeviceText>{row.mac}</DeviceText> },
    { field: 'lastSeen', headerName: 'Last seen', width: 148, renderCell: ({ row }) => moment(row.lastSeen) },
  ];
}
