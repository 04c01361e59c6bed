import ExpandIcon from '@mui/icons-material/ExpandMore';
import { Accordion, AccordionDetails, AccordionSummary, Autocomplete, Checkbox, FormControlLabel, Stack, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';

import { answer, api, type Schema } from '../api/client';

/** What is asked of a sweep beside where, how hard and at which ports, as it is written in the form. */
export type PlanDraft = { leaveOut: string[]; never: string; quiet: string; gentle: string; sweeps: string; days: string; read: boolean };

export const noPlan: PlanDraft = { leaveOut: [], never: '', quiet: '', gentle: '', sweeps: '', days: '', read: false };

const parts = (text: string) => text.split(/[\s,;]+/).filter((part) => part !== '');

/** Makes a plan of a draft; undefined where nothing is asked for. */
export function toPlan(draft: PlanDraft): Schema['Plan'] | undefined {
  const plan: Schema['Plan'] = {};
  if (draft.leaveOut.length > 0) plan.leaveOut = draft.leaveOut;
  if (parts(draft.never).length > 0) plan.never = parts(draft.never).map(Number);
  const quiet = draft.quiet.split(/[,;]/).map((hours) => hours.trim()).filter((hours) => hours !== '');
  if (quiet.length > 0) plan.quiet = quiet;
  if (draft.gentle.trim() !== '') plan.paces = [{ ranges: draft.gentle.trim(), pace: 'gentle' }];
  const patience = { sweeps: Number(draft.sweeps) || undefined, days: Number(draft.days) || undefined };
  if (patience.sweeps || patience.days) plan.patience = patience;
  if (draft.read) plan.read = true;
  return Object.keys(plan).length > 0 ? plan : undefined;
}

/** The fields for what is seldom asked for. */
export function PlanFields({ plan, onChange }: { plan: PlanDraft; onChange: (plan: PlanDraft) => void }) {
  const protocols = useQuery({ queryKey: ['protocols'], queryFn: async () => (await answer(api.GET('/api/v1/protocols')))?.items ?? [] });
  const names = (protocols.data ?? []).flatMap((p) => [p.name, ...p.parts.map((part) => `${p.name}.${part}`)]);
  return (
    <Accordion variant="outlined" disableGutters>
      <AccordionSummary expandIcon={<ExpandIcon />}>
        <Typography>With more care, or more thoroughly</Typography>
      </AccordionSummary>
      <AccordionDetails>
        <Stack spacing={2}>
          <FormControlLabel control={<Checkbox checked={plan.read} onChange={(e) => onChange({ ...plan, read: e.target.checked })} />} label="Count how much systems offer, such as the objects of BACnet controllers" />
          <TextField
            label="Gentle for"
            value={plan.gentle}
            onChange={(e) => onChange({ ...plan, gentle: e.target.value })}
            helperText="Parts of the ranges that are swept at the gentle pace whatever the pace of the rest: plant, say"
          />
          <Autocomplete
            multiple
            options={names}
            value={plan.leaveOut}
            onChange={(_, leaveOut) => onChange({ ...plan, leaveOut })}
            renderInput={(field) => <TextField {...field} label="Protocols left out" helperText="snmp.default-community asks with the default community" />}
          />
          <TextField label="Ports never sent anything" value={plan.never} onChange={(e) => onChange({ ...plan, never: e.target.value })} helperText="9100, 502" />
          <TextField
            label="Quiet hours"
            value={plan.quiet}
            onChange={(e) => onChange({ ...plan, quiet: e.target.value })}
            helperText="Nothing is sent in them, by the clock of the service’s machine: 07:00-18:30, or 22:00-06:00 past midnight"
          />
          <Stack direction="row" spacing={2}>
            <TextField label="Patience in sweeps" type="number" value={plan.sweeps} onChange={(e) => onChange({ ...plan, sweeps: e.target.value })} helperText="A device has vanished when so many have missed it," />
            <TextField label="and in days" type="number" value={plan.days} onChange={(e) => onChange({ ...plan, days: e.target.value })} helperText="and so many days have passed" />
          </Stack>
        </Stack>
      </AccordionDetails>
    </Accordion>
  );
}
