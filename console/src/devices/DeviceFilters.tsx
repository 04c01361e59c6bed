import { Autocomplete, Button, Checkbox, Chip, FormControlLabel, InputAdornment, MenuItem, Stack, TextField, ToggleButton, ToggleButtonGroup } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

import { answer, api } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { FormDialog } from '../app/Dialogs';
import { useSiteId } from '../app/queries';
import { odds, visible } from '../lib/format';
import { details, presences, type Detail, type DeviceFilter } from './filter';
import { kindLabel, kinds } from './kinds';
import { traits } from './traits';
import { words } from './words';

/** What narrows the list of devices; each choice can be taken back by itself. */
export function DeviceFilters({ filter, change }: { filter: DeviceFilter; change: (part: Partial<DeviceFilter>) => void }) {
  return (
    <Stack direction={{ xs: 'column', lg: 'row' }} spacing={2} useFlexGap sx={{ alignItems: { lg: 'center' }, flexWrap: { lg: 'wrap' } }}>
      <ToggleButtonGroup
        size="small"
        value={filter.standing}
        onChange={(_, standing: DeviceFilter['standing']) => change({ standing })}
        aria-label={words.standing}
        sx={{ display: { xs: 'grid', sm: 'inline-flex' }, gridTemplateColumns: '1fr 1fr' }}
      >
        <ToggleButton value="unmanaged">{words.unmanaged}</ToggleButton>
        <ToggleButton value="managed">{words.managed}</ToggleButton>
        <ToggleButton value="missing">{words.missing}</ToggleButton>
        <ToggleButton value="set aside">{words.setAsideTooToo}</ToggleButton>
      </ToggleButtonGroup>
      <SearchField text={filter.text} onText={(text) => change({ text })} />
      <Autocomplete
        multiple
        size="small"
        options={kinds}
        value={filter.kind}
        onChange={(_, kind) => change({ kind })}
        getOptionLabel={kindLabel}
        renderInput={(input) => <TextField {...input} label={words.kinds} />}
        sx={{ minWidth: 220, flex: { lg: '1 1 220px' }, maxWidth: { lg: 380 } }}
      />
      <MoreButton filter={filter} change={change} />
      {details.flatMap((detail) =>
        filter[detail].map((value) => (
          <Chip key={detail + value} label={`${detailNames[detail]}: ${visible(value)}`} onDelete={() => change({ [detail]: filter[detail].filter((v) => v !== value) })} />
        )),
      )}
      {filter.strength > 0 && <Chip label={words.kindAtLeast(odds(filter.strength))} onDelete={() => change({ strength: 0 })} />}
      {filter.presence.map((p) => (
        <Chip key={p} label={p} onDelete={() => change({ presence: filter.presence.filter((other) => other !== p) })} />
      ))}
      {filter.trait && <Chip label={filter.trait} onDelete={() => change({ trait: '' })} />}
      {filter.contested && <Chip label={words.shareAnAddress} onDelete={() => change({ contested: false })} />}
    </Stack>
  );
}

const detailNames: Record<Detail, string> = {
  vendor: words.vendor,
  model: words.model,
  os: words.system,
  firmware: words.firmwareToo,
  service: words.service,
  group: words.groupToo,
  network: words.network,
  responsible: words.responsible,
};

/** How sure the kind has to be, as a filter offers it, in decibans. */
const confidences = [0, 6, 10, 20, 30];

/** Opens a dialog with what devices can be told apart by besides kind and standing. */
function MoreButton({ filter, change }: { filter: DeviceFilter; change: (part: Partial<DeviceFilter>) => void }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button startIcon={<Icon of={icons.filterAlt} />} onClick={() => setOpen(true)}>
        {words.moreFilters}
      </Button>
      {open && <MoreDialog filter={filter} change={change} onClose={() => setOpen(false)} />}
    </>
  );
}

function MoreDialog({ filter, change, onClose }: { filter: DeviceFilter; change: (part: Partial<DeviceFilter>) => void; onClose: () => void }) {
  const site = useSiteId();
  const [chosen, setChosen] = useState(filter);
  const values = useQuery({ queryKey: keys.values(site), queryFn: () => answer(api.GET('/api/v1/sites/{site}/values', { params: { path: { site } } })) });
  return (
    <FormDialog
      title={words.onlyDevicesLikeThis}
      does={words.show}
      failure={values.error}
      busy={false}
      onSubmit={() => {
        change({
          ...Object.fromEntries(details.map((d) => [d, chosen[d]])),
          strength: chosen.strength,
          presence: chosen.presence,
          trait: chosen.trait,
          contested: chosen.contested,
        });
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
          renderInput={(input) => <TextField {...input} label={detailNames[detail]} helperText={detail === 'service' ? words.aPortTcp80A : undefined} />}
        />
      ))}
      <TextField select size="small" label={words.confidenceInTheKindAt} value={chosen.strength} onChange={(e) => setChosen({ ...chosen, strength: Number(e.target.value) })}>
        {[...new Set([...confidences, chosen.strength])]
          .sort((a, b) => a - b)
          .map((strength) => (
            <MenuItem key={strength} value={strength}>
              {strength ? odds(strength) : words.any}
            </MenuItem>
          ))}
      </TextField>
      <Autocomplete
        multiple
        size="small"
        options={presences}
        value={chosen.presence}
        onChange={(_, presence) => setChosen({ ...chosen, presence })}
        renderInput={(input) => <TextField {...input} label={words.presenceInTheLastSweep} />}
      />
      <Autocomplete
        size="small"
        options={traits}
        value={chosen.trait || null}
        onChange={(_, trait) => setChosen({ ...chosen, trait: trait ?? '' })}
        renderInput={(input) => <TextField {...input} label={words.flag} />}
      />
      <FormControlLabel
        control={<Checkbox checked={chosen.contested} onChange={(e) => setChosen({ ...chosen, contested: e.target.checked })} />}
        label={words.sharesAnAddressWithAnother}
      />
    </FormDialog>
  );
}

/** The search waits until somebody pauses in typing. A text that comes from elsewhere, as by the browser's Back, takes the place of what was typed. */
function SearchField({ text, onText }: { text: string; onText: (text: string) => void }) {
  const [typed, setTyped] = useState(text);
  const [sent, setSent] = useState(text);
  const [before, setBefore] = useState(text);
  if (text !== before) {
    setBefore(text);
    if (text !== sent) {
      setSent(text);
      setTyped(text);
    }
  }
  useEffect(() => {
    if (typed === sent) return;
    const timer = setTimeout(() => {
      setSent(typed);
      onText(typed);
    }, 300);
    return () => clearTimeout(timer);
  }, [typed, sent, onText]);
  return (
    <TextField
      size="small"
      label={words.search}
      placeholder={words.nameAddressMacMakerTitle}
      value={typed}
      onChange={(e) => setTyped(e.target.value)}
      slotProps={{
        input: {
          startAdornment: (
            <InputAdornment position="start">
              <Icon of={icons.search} size={20} />
            </InputAdornment>
          ),
        },
      }}
      sx={{ flex: { lg: '1 1 240px' }, maxWidth: { lg: 420 } }}
    />
  );
}
