import PlayIcon from '@mui/icons-material/PlayArrowOutlined';
import { Alert, Button, MenuItem, Stack, TextField } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { answer, api, type Schema, type Site } from '../api/client';
import { FormDialog } from '../app/parts';
import { useMay } from '../app/queries';
import { noPlan, PlanFields, toPlan, type PlanDraft } from './PlanFields';

type Pace = NonNullable<Schema['NewSweep']['pace']>;

type Figures = Schema['Pace'];

const paces: { pace: Pace; says: string }[] = [
  { pace: 'gentle', says: 'gentle: 25 probes/s, one at a time to each device, 10 broadcasts a second; for old controllers' },
  { pace: 'steady', says: 'steady: 300 probes/s' },
  { pace: 'brisk', says: 'brisk: 3,000 probes/s; for sturdy networks' },
  { pace: 'own', says: 'own figures' },
];

const portSets: { ports: string; says: string }[] = [
  { ports: 'telling', says: 'telling: some 40 that tell most of what a device is' },
  { ports: 'usual', says: 'usual: some 200 that are commonly open' },
  { ports: 'all', says: 'all 65,535; slow' },
  { ports: 'list', says: 'a list' },
];

const figureNames: { key: keyof Figures; label: string }[] = [
  { key: 'rate', label: 'Probes/s' },
  { key: 'devices', label: 'Devices at a time' },
  { key: 'perDevice', label: 'At a time to a device' },
  { key: 'perNetwork', label: 'At a time to a network' },
  { key: 'rounds', label: 'Rounds' },
  { key: 'broadcasts', label: 'Broadcasts a second' },
  { key: 'gap', label: 'Gap, ms' },
];

/** Opens the dialog that starts a sweep. */
export function StartSweepButton({ site }: { site: Site }) {
  const [open, setOpen] = useState(false);
  if (!useMay('sweep')) return null;
  return (
    <>
      <Button variant="contained" startIcon={<PlayIcon />} onClick={() => setOpen(true)}>
        Start a sweep
      </Button>
      {open && <StartSweepDialog site={site} onClose={() => setOpen(false)} />}
    </>
  );
}

function StartSweepDialog({ site, onClose }: { site: Site; onClose: () => void }) {
  const [ranges, setRanges] = useState('');
  const [exclusions, setExclusions] = useState('');
  const [pace, setPace] = useState<Pace>('steady');
  const [figures, setFigures] = useState<Figures>({ rate: 50, devices: 4, perDevice: 1, perNetwork: 32, rounds: 3, broadcasts: 20, gap: 100 });
  const [portSet, setPortSet] = useState('telling');
  const [portList, setPortList] = useState('22, 80, 443');
  const [chosen, setChosen] = useState('');
  const [plan, setPlan] = useState<PlanDraft>(noPlan);
  const navigate = useNavigate();
  const queries = useQueryClient();
  const vantages = useQuery({ queryKey: ['vantages'], queryFn: async () => (await answer(api.GET('/api/v1/vantages')))?.items ?? [] });
  const vantage = chosen || (vantages.data?.length === 1 ? (vantages.data[0]?.name ?? '') : '');
  const start = useMutation({
    mutationFn: () =>
      answer(
        api.POST('/api/v1/sites/{site}/sweeps', {
          params: { path: { site: site.id } },
          body: { ranges, exclusions, pace, figures: pace === 'own' ? figures : undefined, vantage, ports: portSet === 'list' ? portList : portSet, plan: toPlan(plan) },
        }),
      ),
    onSuccess: async (sweep) => {
      await queries.invalidateQueries({ queryKey: ['sweeps'] });
      await navigate(`/sites/${site.id}/sweeps/${sweep.id}`);
    },
  });
  return (
    <FormDialog
      title={`Start a sweep of ${site.name}`}
      does="Start"
      failure={vantages.error ?? start.error}
      busy={start.isPending}
      onSubmit={() => start.mutate()}
      onClose={onClose}
    >
      <TextField select label="From" required value={vantage} onChange={(e) => setChosen(e.target.value)} helperText="The interface of this service’s machine that is plugged into the site">
        {(vantages.data ?? []).map((v) => (
          <MenuItem key={v.name} value={v.name}>
            {v.name}: {v.prefixes.join(', ') || 'no address'}
          </MenuItem>
        ))}
      </TextField>
      <TextField
        label="Ranges"
        multiline
        value={ranges}
        onChange={(e) => setRanges(e.target.value)}
        helperText="10.40.1.9, 10.40.1.0/24, 10.40.1.20-10.40.1.80 or 10.40.1.20-80, separated by commas. Empty: all networks of the site."
      />
      <TextField label="Leave out" value={exclusions} onChange={(e) => setExclusions(e.target.value)} helperText="Written in the same way" />
      <TextField select label="Pace" value={pace} onChange={(e) => setPace(e.target.value as Pace)}>
        {paces.map((p) => (
          <MenuItem key={p.pace} value={p.pace}>
            {p.says}
          </MenuItem>
        ))}
      </TextField>
      {pace === 'own' && (
        <Stack direction="row" spacing={1} sx={{ flexWrap: 'wrap', rowGap: 1.5 }}>
          {figureNames.map((f) => (
            <TextField
              key={f.key}
              size="small"
              type="number"
              label={f.label}
              value={figures[f.key]}
              onChange={(e) => setFigures({ ...figures, [f.key]: Number(e.target.value) })}
              sx={{ width: 168 }}
            />
          ))}
        </Stack>
      )}
      <TextField select label="Ports" value={portSet} onChange={(e) => setPortSet(e.target.value)}>
        {portSets.map((p) => (
          <MenuItem key={p.ports} value={p.ports}>
            {p.says}
          </MenuItem>
        ))}
      </TextField>
      {portSet === 'list' && <TextField label="List of ports" value={portList} onChange={(e) => setPortList(e.target.value)} helperText="22, 80, 8000-8100" />}
      <PlanFields plan={plan} onChange={setPlan} />
      {vantages.data?.length === 0 && <Alert severity="warning">This machine has no interface with an address.</Alert>}
    </FormDialog>
  );
}
