import { Box, Button, Chip, FormControlLabel, Link, Stack, Switch, TextField, Tooltip, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink, useSearchParams } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { Within } from '../app/Loaded';
import { FormDialog } from '../app/Dialogs';
import { Empty, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useMay, useSiteId } from '../app/queries';
import { count, visible } from '../lib/format';
import { words } from './words';

type Spread = Schema['FirmwareSpread'];

/** Which versions of firmware lie over the devices of each model, the newest first, and which one the site wants. */
export function FirmwarePage() {
  const site = useSiteId();
  const [params, setParams] = useSearchParams();
  const behind = params.get('behind') === 'yes';
  const [wanting, setWanting] = useState<Spread>();
  const spreads = useQuery({
    queryKey: keys.firmware(site),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/firmware', { params: { path: { site } } }))).items,
  });
  const list = (spreads.data ?? []).filter((s) => !behind || s.behind > 0);
  return (
    <Page
      title={words.firmware}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          <FormControlLabel
            control={<Switch checked={behind} onChange={(e) => setParams(e.target.checked ? { behind: 'yes' } : {})} />}
            label={words.onlyModelsWithDevicesBehind}
          />
          <Button startIcon={<Icon of={icons.download} />} href={`/api/v1/sites/${site}/firmware.csv`} download="firmware.csv">
            {words.csv}
          </Button>
        </Stack>
      }
    >
      <Within query={spreads}>{() => (list.length > 0 ? <Matrix site={site} spreads={list} onWant={setWanting} /> : <NoModel behind={behind} />)}</Within>
      {wanting && <WantedDialog site={site} spread={wanting} onClose={() => setWanting(undefined)} />}
    </Page>
  );
}

function NoModel({ behind }: { behind: boolean }) {
  return (
    <Panel>
      <Empty title={behind ? words.noDeviceIsBehind : words.noModelIsKnownYet}>{behind ? words.allDevicesHaveTheNewest : words.modelsAreToldByWhat}</Empty>
    </Panel>
  );
}

function Matrix({ site, spreads, onWant }: { site: number; spreads: Spread[]; onWant: (spread: Spread) => void }) {
  const mayWant = useMay('sweep');
  return (
    <Panel>
      <SmallTable
        label={words.versionsOfFirmware}
        rows={spreads}
        rowKey={(s) => `${s.vendor}/${s.model}`}
        columns={[
          {
            head: words.model,
            cell: (s) => (
              <Link component={RouterLink} to={devicesOf(site, s)}>
                {visible(s.model)}
              </Link>
            ),
          },
          { head: words.vendor, cell: (s) => visible(s.vendor ?? '') },
          { head: words.devices, right: true, cell: (s) => s.devices },
          {
            head: words.versionsTheNewestFirst,
            cell: (s) => (
              <Stack direction="row" spacing={0.75} useFlexGap sx={{ flexWrap: 'wrap' }}>
                {s.versions.map((v) => (
                  <Version key={v.version} site={site} spread={s} version={v} />
                ))}
                {s.unknown > 0 && (
                  <Typography variant="body2" color="textSecondary" sx={{ alignSelf: 'center' }}>
                    {s.versions.length > 0 ? words.unknown(s.unknown) : words.unknownToo}
                  </Typography>
                )}
              </Stack>
            ),
          },
          {
            head: words.wanted,
            line: true,
            cell: (s) => (
              <>
                {visible(s.wanted ?? '')}
                {mayWant && (
                  <Button size="small" onClick={() => onWant(s)} aria-label={words.theVersionWantedOn(s.wanted ? 'Change' : 'Set', s.model)}>
                    {s.wanted ? words.change : words.set}
                  </Button>
                )}
              </>
            ),
          },
          {
            head: words.behind,
            right: true,
            cell: (s) =>
              s.behind > 0 ? (
                <Box component="span" sx={{ color: 'warning.main', fontWeight: 650 }}>
                  {s.behind}
                </Box>
              ) : (
                ''
              ),
          },
        ]}
      />
    </Panel>
  );
}

/** One version, with how many devices have it; it leads to them. */
function Version({ site, spread, version }: { site: number; spread: Spread; version: Spread['versions'][number] }) {
  const isNewest = version.version === spread.newest;
  const isWanted = version.version === spread.wanted;
  const says = [isWanted && 'wanted', isNewest && words.theNewestSeenHere].filter(Boolean).join(', ') || words.olderThanTheNewestSeen;
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
      await queries.invalidateQueries({ queryKey: keys.firmware(site) });
      onClose();
    },
  });
  return (
    <FormDialog title={words.firmwareOf(visible(spread.model))} does={words.save} failure={want.error} busy={want.isPending} onSubmit={() => want.mutate()} onClose={onClose}>
      <TextField
        autoFocus
        label={words.versionThatTheSiteWants}
        value={version}
        onChange={(e) => setVersion(e.target.value)}
        helperText={words.emptyWhereNoneInParticular}
        slotProps={{ htmlInput: { maxLength: 200 } }}
      />
    </FormDialog>
  );
}
