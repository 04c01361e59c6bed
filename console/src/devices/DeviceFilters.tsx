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
import type { Field } from './fields';
import { asked, asking, type DeviceFilter } from './filter';
import { kindLabel } from './kinds';
import { words } from './words';

interface FilterProps {
  filter: DeviceFilter;
  fields: Field[];
  change: (part: Partial<DeviceFilter>) => void;
}

/** The fields that stand beside the list and not in the dialog. */
const beside = ['standing', 'kind'];

/** What narrows the list of devices; each choice can be taken back by itself. */
export function DeviceFilters({ filter, fields, change }: FilterProps) {
  const others = fields.filter((f) => f.asked !== undefined && !beside.includes(f.name));
  return (
    <Stack direction={{ xs: 'column', lg: 'row' }} spacing={2} useFlexGap sx={{ alignItems: { lg: 'center' }, flexWrap: { lg: 'wrap' } }}>
      <ToggleButtonGroup
        size="small"
        value={asked(filter, 'standing')}
        onChange={(_, standing: string[]) => change(asking(filter, 'standing', standing))}
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
        options={fields.find((f) => f.name === 'kind')?.choices ?? []}
        value={asked(filter, 'kind')}
        onChange={(_, kind) => change(asking(filter, 'kind', kind))}
        getOptionLabel={kindLabel}
        renderInput={(input) => <TextField {...input} label={words.kinds} />}
        sx={{ minWidth: 220, flex: { lg: '1 1 220px' }, maxWidth: { lg: 380 } }}
      />
      <MoreButton filter={filter} fields={others} change={change} />
      {others.flatMap((field) =>
        asked(filter, name(field)).map((value) => (
          <Chip key={field.name + value} label={chipLabel(field, value)} onDelete={() => change(asking(filter, name(field), asked(filter, name(field)).filter((v) => v !== value)))} />
        )),
      )}
    </Stack>
  );
}

/** The name that filters have for a field. */
const name = (field: Field) => field.asked ?? field.name;

function chipLabel(field: Field, value: string): string {
  if (field.filter === 'is-set') return field.heading;
  if (field.name === 'strength') return words.kindAtLeast(odds(Number(value)));
  return `${field.heading}: ${visible(value)}`;
}

/** How sure the kind has to be, as a filter offers it, in decibans. */
const confidences = ['6', '10', '20', '30'];

/** Opens a dialog with what devices can be told apart by besides kind and standing. */
function MoreButton(props: FilterProps) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button startIcon={<Icon of={icons.filterAlt} />} onClick={() => setOpen(true)}>
        {words.moreFilters}
      </Button>
      {open && <MoreDialog {...props} onClose={() => setOpen(false)} />}
    </>
  );
}

function MoreDialog({ filter, fields, change, onClose }: FilterProps & { onClose: () => void }) {
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
        change({ where: chosen.where });
        onClose();
      }}
      onClose={onClose}
    >
      {fields.map((field) => (
        <FieldFilter
          key={field.name}
          field={field}
          known={values.data?.[name(field)] ?? []}
          value={asked(chosen, name(field))}
          onValue={(value) => setChosen({ ...chosen, ...asking(chosen, name(field), value) })}
        />
      ))}
    </FormDialog>
  );
}

/** Lets somebody choose by which values of a field the list is narrowed, in the way that the field has. */
function FieldFilter({ field, known, value, onValue }: { field: Field; known: string[]; value: string[]; onValue: (value: string[]) => void }) {
  if (field.filter === 'is-set') {
    return <FormControlLabel control={<Checkbox checked={value.length > 0} onChange={(e) => onValue(e.target.checked ? ['true'] : [])} />} label={field.doc ?? field.heading} />;
  }
  if (field.filter === 'at-least') {
    const choices = field.choices ?? [...new Set([...confidences, ...value])].sort((a, b) => Number(a) - Number(b));
    const label = field.name === 'strength' ? words.confidenceInTheKindAt : words.atLeast(field.heading);
    return (
      <TextField select size="small" label={label} value={value[0] ?? ''} onChange={(e) => onValue(e.target.value ? [e.target.value] : [])}>
        <MenuItem value="">{words.any}</MenuItem>
        {choices.map((choice) => (
          <MenuItem key={choice} value={choice}>
            {field.type === 'number' ? odds(Number(choice)) : choice}
          </MenuItem>
        ))}
      </TextField>
    );
  }
  return (
    <Autocomplete
      multiple
      freeSolo={field.choices === undefined}
      size="small"
      options={field.choices ?? known}
      getOptionLabel={visible}
      value={value}
      onChange={(_, next) => onValue(next)}
      renderInput={(input) => <TextField {...input} label={field.heading} helperText={field.name === 'service' ? words.aPortTcp80A : undefined} />}
    />
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
