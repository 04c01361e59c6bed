import DownloadIcon from '@mui/icons-material/DownloadOutlined';
import { Button, Chip, FormControlLabel, Link, Paper, Stack, Switch, Table, TableBody, TableCell, TableContainer, TableHead, TableRow, TextField, Tooltip, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink, useSearchParams } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { Empty, Failure, FormDialog, Loading, Page, Panel } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { count, visible } from '../lib/format';

type Spread = Schema['FirmwareSpread'];

/** Which versions of firmware lie over the devices of each model, the newest first, and which one the site wants. */
export function FirmwarePage() {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const behind = params.get('behind') === 'yes';
  const [wanting, setWanting] = useState<Spread>();
  const spreads = useQuery({
    queryKey: ['firmware', site],
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/firmware', { params: { path: { site } } })))?.items ?? [],
  });
  const list = (spreads.data ?? []).filter((s) => !behind || s.behind > 0);
  return (
    <Page
      title="Firmware"
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          <FormControlLabel control={<Switch checked={behind} onChange={(e) => setParams(e.target.checked ? { behind: 'yes' } : {})} />} label="Only models with devices behind" />
          <Button startIcon={<DownloadIcon />} href={`/api/v1/sites/${site}/firmware.csv`} download="firmware.csv">
            CSV
          </Button>
        </Stack>
      }
    >
      <Failure failure={spreads.error} />
      {spreads.isPending && <Loading />}
      {spreads.isSuccess && list.length === 0 && (
        <Panel>
          <Empty title={behind ? 'No device is behind' : 'No model is known yet'}>{behind ? 'All devices have the newest version that was seen of their model, or the one that is wanted.' : 'Models are told by what devices say of themselves in a sweep.'}</Empty>
        </Panel>
      )}
      {list.length > 0 && <Matrix site={site} spreads={list} onWant={setWanting} />}
      {wanting && <WantedDialog site={site} spread={wanting} onClose={() => setWanting(undefined)} />}
    </Page>
  );
}

function Matrix({ site, spreads, onWant }: { site: number; spreads: Spread[]; onWant: (spread: Spread) => void }) {
  const mayWant = useMay('sweep');
  return (
    <TableContainer component={Paper} variant="outlined" tabIndex={0} role="group" aria-label="Versions of firmware, to be scrolled">
      <Table size="small" aria-label="Versions of firmware">
        <TableHead>
          <TableRow>
            <TableCell>Model</TableCell>
            <TableCell>Vendor</TableCell>
            <TableCell align="right">Devices</TableCell>
            <TableCell>Versions, the newest first</TableCell>
            <TableCell>Wanted</TableCell>
            <TableCell align="right">Behind</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {spreads.map((s) => (
            <TableRow key={`${s.vendor}/${s.model}`} hover>
              <TableCell>
                <Link component={RouterLink} to={devicesOf(site, s)}>
                  {visible(s.model)}
                </Link>
              </TableCell>
              <TableCell>{visible(s.vendor ?? '')}</TableCell>
              <TableCell align="right">{s.devices}</TableCell>
              <TableCell>
                <Stack direction="row" spacing={0.75} useFlexGap sx={{ flexWrap: 'wrap' }}>
                  {s.versions.map((v) => (
                    <Version key={v.version} site={site} spread={s} version={v} />
                  ))}
                  {s.unknown > 0 && (
                    <Typography variant="body2" color="textSecondary" sx={{ alignSelf: 'center' }}>
                      {s.versions.length > 0 ? `${s.unknown} unknown` : 'unknown'}
                    </Typography>
                  )}
                </Stack>
              </TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>
                {visible(s.wanted ?? '')}
                {mayWant && (
                  <Button size="small" onClick={() => onWant(s)} aria-label={`${s.wanted ? 'Change' : 'Set'} the version wanted on ${s.model}`}>
                    {s.wanted ? 'Change' : 'Set'}
                  </Button>
                )}
              </TableCell>
              <TableCell align="right" sx={s.behind > 0 ? { color: 'warning.main', fontWeight: 650 } : undefined}>
                {s.behind || ''}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </TableContainer>
  );
}

/** One version, with how many devices have it; it leads to them. */
function Version({ site, spread, version }: { site: number; spread: Spread; version: Spread['versions'][number] }) {
  const isNewest = version.version === spread.newest;
  const isWanted = version.version === spread.wanted;
  const says = [isWanted && 'wanted', isNewest && 'the newest seen here'].filter(Boolean).join(', ') || 'older than the newest seen here';
  return (
    <Tooltip describeChild title={`${count(version.devices, 'device')}: ${says}`}>
      <Chip
        size="small"
        component={RouterLink}
        clickable
        to={devicesOf(site, spread, version.version)}
        color={isWanted || (isNewest && !spread.wanted) ? 'success' : 'default'}
        variant={isWanted || isNewest ? 'filled' : 'outlined'}
        label={`${visible(version.version)} × ${version.devices}`}
      />
    </Tooltip>
  );
}

/** Where the devices of a model are listed, or those of one version. */
function devicesOf(site: number, spread: Spread, version?: string) {
  const params = new URLSearchParams({ model: spread.model });
  if (spread.vendor) params.set('vendor', spread.vendor);
  if (version) params.set('firmware', version);
  return `/sites/${site}/devices?${params.toString()}`;
}

function WantedDialog({ site, spread, onClose }: { site: number; spread: Spread; onClose: () => void }) {
  const queries = useQueryClient();
  const [version, setVersion] = useState(spread.wanted ?? spread.newest ?? '');
  const want = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/firmware', { params: { path: { site } }, body: { vendor: spread.vendor, model: spread.model, version } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['firmware', site] });
      onClose();
    },
  });
  return (
    <FormDialog title={`Firmware of ${visible(spread.model)}`} does="Save" failure={want.error} busy={want.isPending} onSubmit={() => want.mutate()} onClose={onClose}>
      <TextField autoFocus label="Version that the site wants" value={version} onChange={(e) => setVersion(e.target.value)} helperText="Empty where none in particular is wanted: devices are then compared with the newest version seen here." slotProps={{ htmlInput: { maxLength: 200 } }} />
    </FormDialog>
  );
}
