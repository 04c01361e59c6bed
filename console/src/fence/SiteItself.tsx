import { Alert, Autocomplete, Button, Stack, TextField, Typography } from '@mui/material';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { useOutdated } from '../app/keys';
import { FormDialog } from '../app/Dialogs';
import { Panel } from '../app/parts';
import { useSites } from '../app/queries';
import { visible } from '../lib/format';
import { words } from './words';

/** The time zones that this browser knows. */
const zones = Intl.supportedValuesOf('timeZone');

/** The name of the site, for how long its evidence is kept, its time zone, and its end. */
export function SiteItself({ site }: { site: number }) {
  const known = useSites().data?.find((s) => s.id === site);
  const [name, setName] = useState<string>();
  const [typed, setTyped] = useState<string>();
  const [keeping, setKeeping] = useState<Schema['Keeping']>();
  const outdated = useOutdated();
  const changed = () => outdated('fence', 'sites', 'overview');
  const keep = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/keeping', { params: { path: { site } }, body: keeping ?? { days: 0, weeklyDays: 0 } })),
    onSuccess: async () => {
      setKeeping(undefined);
      await changed();
    },
  });
  const [zone, setZone] = useState<string>();
  const settle = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/zone', { params: { path: { site } }, body: { zone: zone ?? '' } })),
    onSuccess: async () => {
      setZone(undefined);
      await changed();
    },
  });
  const navigate = useNavigate();
  const rename = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/name', { params: { path: { site } }, body: { name: name ?? '' } })),
    onSuccess: async () => {
      setName(undefined);
      await changed();
    },
  });
  const remove = useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/sites/{site}', { params: { path: { site }, query: { name: typed ?? '' } } })),
    onSuccess: async () => {
      await changed();
      await navigate('/');
    },
  });
  if (!known) return null;
  return (
    <Panel title={words.theSiteItself}>
      <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap' }}>
        <Button variant="outlined" onClick={() => setName(known.name)}>
          {words.renameTheSite}
        </Button>
        <Button variant="outlined" onClick={() => setKeeping(known.keeping)}>
          {known.keeping.days ? words.evidenceKeptForDays(known.keeping.days) : words.allEvidenceIsKept}
        </Button>
        <Button variant="outlined" onClick={() => setZone(known.zone)}>
          {known.zone ? words.timesIn(known.zone) : words.timesInEachViewersZone}
        </Button>
        <Button color="error" onClick={() => setTyped('')}>
          {words.deleteTheSite}
        </Button>
      </Stack>
      {name !== undefined && (
        <FormDialog
          title={words.renameTheSite}
          does={words.rename}
          failure={rename.error}
          busy={rename.isPending}
          onSubmit={() => rename.mutate()}
          onClose={() => setName(undefined)}
        >
          <TextField label={words.newNameOfTheSite} required autoFocus value={name} onChange={(e) => setName(e.target.value)} />
        </FormDialog>
      )}
      {keeping !== undefined && (
        <FormDialog
          title={words.forHowLongEvidenceIs}
          does={words.saveIt}
          failure={keep.error}
          busy={keep.isPending}
          onSubmit={() => keep.mutate()}
          onClose={() => setKeeping(undefined)}
        >
          <Typography color="textSecondary">{words.evidenceIsDeletedInTime}</Typography>
          <TextField
            label={words.allOfItForSo}
            type="number"
            value={keeping.days}
            onChange={(e) => setKeeping({ ...keeping, days: Number(e.target.value) || 0 })}
            helperText={words.n0KeepsItForGood}
          />
          <TextField
            label={words.thenOfOneSweepA}
            type="number"
            value={keeping.weeklyDays}
            onChange={(e) => setKeeping({ ...keeping, weeklyDays: Number(e.target.value) || 0 })}
            helperText={words.afterThatOfOne}
          />
        </FormDialog>
      )}
      {zone !== undefined && (
        <FormDialog
          title={words.timeZoneOfTheSite}
          does={words.showTimesInIt}
          failure={settle.error}
          busy={settle.isPending}
          onSubmit={() => settle.mutate()}
          onClose={() => setZone(undefined)}
        >
          <Autocomplete
            freeSolo
            options={zones}
            inputValue={zone}
            onInputChange={(_, text) => setZone(text)}
            renderInput={(input) => <TextField {...input} label={words.timeZone} autoFocus helperText={words.suchAsEuropeLisbonEmpty} />}
          />
        </FormDialog>
      )}
      {typed !== undefined && (
        <FormDialog
          title={words.deleteTheSite}
          does={words.deleteItForGood}
          failure={remove.error}
          busy={remove.isPending}
          onSubmit={() => remove.mutate()}
          onClose={() => setTyped(undefined)}
        >
          <Alert severity="warning">
            {words.everythingThatWasEverSeen} {visible(known.name)} {words.isDeletedSweepsDevices}
          </Alert>
          <TextField label={words.type(visible(known.name))} required autoFocus value={typed} onChange={(e) => setTyped(e.target.value)} />
        </FormDialog>
      )}
    </Panel>
  );
}
