import AddIcon from '@mui/icons-material/AddOutlined';
import DownloadIcon from '@mui/icons-material/DownloadOutlined';
import UploadIcon from '@mui/icons-material/UploadFileOutlined';
import { Alert, Box, Button, Checkbox, FormControlLabel, Link, Paper, Stack, Switch, Typography } from '@mui/material';
import { DataGrid, type GridColDef } from '@mui/x-data-grid';
import { useInfiniteQuery, useMutation, useQueryClient } from '@tanstack/react-query';
import { useRef, useState, type DragEvent, type MouseEvent } from 'react';
import { Link as RouterLink, useSearchParams } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { DeviceText, Empty, Failure, Page, Panel } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { count, moment, visible } from '../lib/format';
import { EntryDialog } from './EntryDialog';

type Entry = Schema['Entry'];

/** The register, and its import. */
export function RegisterPage() {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const missing = params.get('missing') === 'true';
  const register = useInfiniteQuery({
    queryKey: ['register', site, missing],
    queryFn: ({ pageParam }) =>
      answer(api.GET('/api/v1/sites/{site}/register', { params: { path: { site }, query: { cursor: pageParam, missing: missing || undefined, limit: 1000 } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page?.next,
  });
  const [open, setOpen] = useState<Entry | 'new'>();
  const may = useMay('sweep');
  return (
    <Page
      title="Register"
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          <FormControlLabel
            control={<Switch checked={missing} onChange={(e) => setParams(e.target.checked ? { missing: 'true' } : {})} />}
            label="Never answered"
          />
          <Button startIcon={<DownloadIcon />} href={`/api/v1/sites/${site}/register.csv`} download="register.csv">
            CSV
          </Button>
          {may && (
            <Button variant="contained" startIcon={<AddIcon />} onClick={() => setOpen('new')}>
              Add a device
            </Button>
          )}
        </Stack>
      }
    >
      {may && <Import site={site} />}
      <Failure failure={register.error} />
      <Paper variant="outlined" sx={{ height: 'calc(100vh - 380px)', minHeight: 360 }}>
        <DataGrid
          rows={register.data?.pages.flatMap((page) => page?.items ?? []) ?? []}
          columns={columns(site)}
          onRowClick={(row) => may && setOpen(row.row)}
          loading={register.isPending}
          density="compact"
          disableColumnMenu
          disableRowSelectionOnClick
          initialState={{ pagination: { paginationModel: { pageSize: 100 } } }}
          pageSizeOptions={[50, 100]}
          slots={{ noRowsOverlay: NoEntries }}
          sx={{ border: 0 }}
        />
      </Paper>
      {register.hasNextPage && (
        <Button variant="outlined" loading={register.isFetchingNextPage} onClick={() => void register.fetchNextPage()}>
          Load more
        </Button>
      )}
      {open && <EntryDialog site={site} entry={open === 'new' ? undefined : open} onClose={() => setOpen(undefined)} />}
    </Page>
  );
}

function NoEntries() {
  return <Empty title="The register is empty">Import the list of devices that somebody says they manage.</Empty>;
}

function Import({ site }: { site: number }) {
  const [replace, setReplace] = useState(false);
  const [partial, setPartial] = useState(false);
  const [over, setOver] = useState(false);
  const [name, setName] = useState('');
  const input = useRef<HTMLInputElement>(null);
  const queries = useQueryClient();
  const load = useMutation({
    mutationFn: async (file: File) => {
      setName(file.name);
      const text = await file.arrayBuffer();
      return answer(
        api.POST('/api/v1/sites/{site}/register', {
          params: { path: { site }, query: { replace, partial } },
          body: text as unknown as string,
          bodySerializer: (body) => body,
          headers: { 'Content-Type': 'application/octet-stream' },
        }),
      );
    },
    onSuccess: async () => {
      for (const key of ['register', 'overview', 'devices', 'device']) await queries.invalidateQueries({ queryKey: [key] });
    },
  });
  const take = (files: FileList | null) => {
    const file = files?.[0];
    if (file) load.mutate(file);
  };
  const drop = (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    take(e.dataTransfer.files);
  };
  return (
    <Panel title="Import from CSV or a workbook">
      <Stack spacing={1.5}>
        <Box
          onDragOver={(e) => {
            e.preventDefault();
            setOver(true);
          }}
          onDragLeave={() => setOver(false)}
          onDrop={drop}
          sx={{ border: '2px dashed', borderColor: over ? 'primary.main' : 'divider', borderRadius: 2, p: 2, display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}
        >
          <Button variant="contained" startIcon={<UploadIcon />} loading={load.isPending} onClick={() => input.current?.click()}>
            Choose a file
          </Button>
          <input
            ref={input}
            type="file"
            tabIndex={-1}
            accept=".csv,.txt,.tsv,.xlsx,text/csv"
            aria-label="File of the register"
            style={{ position: 'absolute', width: 1, height: 1, opacity: 0 }}
            onChange={(e) => {
              take(e.target.files);
              e.target.value = '';
            }}
          />
          <Typography color="textSecondary" sx={{ flex: '1 1 300px' }}>
            or drop it here. The first line names the columns, in any order: name, mac, address, vendor, model, kind, location, responsible, note. It is all
            or nothing, unless it may be partial.
          </Typography>
          <FormControlLabel control={<Checkbox checked={replace} onChange={(e) => setReplace(e.target.checked)} />} label="Take the old register out first" />
          <FormControlLabel control={<Checkbox checked={partial} onChange={(e) => setPartial(e.target.checked)} />} label="Leave out faulty lines" />
        </Box>
        <Failure failure={load.error} />
        {load.data && (
          <Alert severity="success">
            {visible(name)}: {count(load.data.added, 'device')} added, {load.data.updated} updated. Of what is known, {load.data.counts.managed} managed,{' '}
            {load.data.counts.unmanaged} unmanaged, {load.data.counts.missing} missing.
          </Alert>
        )}
        {load.data && load.data.faults.length > 0 && (
          <Alert severity="warning">
            {count(load.data.leftOut, 'line')} left out:
            <Box component="ul" sx={{ m: 0, mt: 1, pl: 2.5 }}>
              {load.data.faults.map((f, i) => (
                <li key={i}>
                  <strong>{[f.place, f.field && `(${visible(f.field)})`].filter(Boolean).join(' ')}</strong>: {visible(f.why)}
                </li>
              ))}
            </Box>
          </Alert>
        )}
      </Stack>
    </Panel>
  );
}

/** What became of an entry: the device that it means, or that none has answered yet. */
function Holder({ site, entry }: { site: number; entry: Entry }) {
  if (!entry.device) return null;
  const to = `/sites/${site}/devices/${entry.device}`;
  const stop = (e: MouseEvent) => e.stopPropagation(); // the row opens the entry
  if (entry.lastSeen) {
    return (
      <Link component={RouterLink} to={to} onClick={stop}>
        {entry.presence === 'seen' ? 'seen' : entry.presence} {moment(entry.lastSeen)}
      </Link>
    );
  }
  const could = entry.could?.length ?? 0;
  return (
    <Link component={RouterLink} to={to} onClick={stop} color={could ? 'warning.main' : undefined}>
      {could ? `could be one of ${could}` : 'has not answered yet'}
    </Link>
  );
}

const columns = (site: number): GridColDef<Entry>[] => [
  { field: 'device', headerName: 'On the network', width: 190, renderCell: ({ row }) => <Holder site={site} entry={row} /> },
  { field: 'name', headerName: 'Name', flex: 1.2, minWidth: 160, renderCell: ({ row }) => visible(row.name ?? '') },
  { field: 'mac', headerName: 'MAC', width: 165, renderCell: ({ row }) => <DeviceText>{row.mac}</DeviceText> },
  { field: 'address', headerName: 'Address', width: 130, renderCell: ({ row }) => <DeviceText>{row.address}</DeviceText> },
  { field: 'vendor', headerName: 'Maker', flex: 1, minWidth: 140, renderCell: ({ row }) => visible(row.vendor ?? '') },
  { field: 'model', headerName: 'Model', flex: 0.8, minWidth: 110, renderCell: ({ row }) => visible(row.model ?? '') },
  { field: 'kind', headerName: 'Kind', flex: 0.8, minWidth: 110, renderCell: ({ row }) => visible(row.kind ?? '') },
  { field: 'location', headerName: 'Location', flex: 0.8, minWidth: 110, renderCell: ({ row }) => visible(row.location ?? '') },
  { field: 'responsible', headerName: 'Responsible', flex: 0.8, minWidth: 110, renderCell: ({ row }) => visible(row.responsible ?? '') },
  { field: 'note', headerName: 'Note', flex: 1, minWidth: 120, renderCell: ({ row }) => visible(row.note ?? '') },
];
