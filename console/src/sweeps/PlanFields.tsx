import { Accordion, AccordionDetails, AccordionSummary, Autocomplete, Checkbox, FormControlLabel, Stack, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { words } from './words';

/** What is asked of a sweep beside where, how hard and at which ports, as it is written in the form. */
export type PlanDraft = { leaveOut: string[]; never: string; quiet: string; gentle: string; sweeps: string; days: string; read: boolean };

export const noPlan: PlanDraft = { leaveOut: [], never: '', quiet: '', gentle: '', sweeps: '', days: '', read: false };

const parts = (text: string) => text.split(/[\s,;]+/).filter((part) => part !== '');

/** Makes a plan of a draft; undefined where nothing is asked for. */
export function toPlan(draft: PlanDraft): Schema['Plan'] | undefined {
  const plan: Schema['Plan'] = {};
  if (draft.leaveOut.length > 0) plan.leaveOut = draft.leaveOut;
  if (parts(draft.never).length > 0) plan.never = parts(draft.never).map(Number);
  const quiet = draft.quiet
    .split(/[,;]/)
    .map((hours) => hours.trim())
    .filter((hours) => hours !== '');
  if (quiet.length > 0) plan.quiet = quiet;
  if (draft.gentle.trim() !== '') plan.paces = [{ ranges: draft.gentle.trim(), pace: 'gentle' }];
  const patience = { sweeps: Number(draft.sweeps) || undefined, days: Number(draft.days) || undefined };
  if (patience.sweeps || patience.days) plan.patience = patience;
  if (draft.read) plan.read = true;
  return Object.keys(plan).length > 0 ? plan : undefined;
}

/** The fields for what is seldom asked for. */
export function PlanFields({ plan, onChange }: { plan: PlanDraft; onChange: (plan: PlanDraft) => void }) {
  const protocols = useQuery({ queryKey: keys.protocols, queryFn: async () => (await answer(api.GET('/api/v1/protocols'))).items });
  const names = (protocols.data ?? []).flatMap((p) => [p.name, ...p.parts.map((part) => `${p.name}.${part}`)]);
  return (
    <Accordion variant="outlined" disableGutters>
      <AccordionSummary expandIcon={<Icon of={icons.expandMore} />}>
        <Typography>{words.withMoreCareOrMore}</Typography>
      </AccordionSummary>
      <AccordionDetails>
        <Stack spacing={2}>
          <FormControlLabel control={<Checkbox checked={plan.read} onChange={(e) => onChange({ ...plan, read: e.target.checked })} />} label={words.countHowMuchSystemsOffer} />
          <TextField label={words.gentleFor} value={plan.gentle} onChange={(e) => onChange({ ...plan, gentle: e.target.value })} helperText={words.partsOfTheRangesTo} />
          <Autocomplete
            multiple
            options={names}
            value={plan.leaveOut}
            onChange={(_, leaveOut) => onChange({ ...plan, leaveOut })}
            renderInput={(field) => <TextField {...field} label={words.protocolsLeftOut} helperText={words.snmpDefaultCommunityAsksWith} />}
          />
          <TextField label={words.portsToSendNothingTo} value={plan.never} onChange={(e) => onChange({ ...plan, never: e.target.value })} helperText="9100, 502" />
          <TextField label={words.quietHours} value={plan.quiet} onChange={(e) => onChange({ ...plan, quiet: e.target.value })} helperText={words.nothingIsSentInThem} />
          <Stack direction="row" spacing={2}>
            <TextField
              label={words.patienceInSweeps}
              type="number"
              value={plan.sweeps}
              onChange={(e) => onChange({ ...plan, sweeps: e.target.value })}
              helperText={words.aDeviceHasVanishedWhen}
            />
            <TextField label={words.andInDays} type="number" value={plan.days} onChange={(e) => onChange({ ...plan, days: e.target.value })} helperText={words.andSoManyDaysHave} />
          </Stack>
        </Stack>
      </AccordionDetails>
    </Accordion>
  );
}
