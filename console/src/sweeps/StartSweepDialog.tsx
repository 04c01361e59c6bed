import { Alert, MenuItem, Stack, TextField } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { answer, api, type Schema, type Site } from '../api/client';
import { keys, useOutdated } from '../app/keys';
import { FormDialog } from '../app/Dialogs';
import { noPlan, PlanFields, toPlan, type PlanDraft } from './PlanFields';
import { words } from './words';

type Pace = NonNullable<Schema['NewSweep']['pace']>;

type Figures = Schema['Pace'];

const paces: { pace: Pace; says: string }[] = [
  { pace: 'gentle', says: words.gentle25ProbesSOne },
  { pace: 'steady', says: words.steady300ProbesS },
  { pace: 'brisk', says: words.brisk3000ProbesS },
  { pace: 'own', says: words.ownFigures },
];

const portSets: { ports: string; says: string }[] = [
  { ports: 'telling', says: words.tellingSome40ThatTell },
  { ports: 'usual', says: words.usualSome200ThatAre },
  { ports: 'all', says: words.all65535Slow },
  { ports: 'list', says: words.aList },
];

const figureNames: { key: keyof Figures; label: string }[] = [
  { key: 'rate', label: words.probesS },
  { key: 'devices', label: words.devicesAtATime },
  { key: 'perDevice', label: words.atOncePerDevice },
  { key: 'perNetwork', label: words.atOncePerNetwork },
  { key: 'rounds', label: words.rounds },
  { key: 'broadcasts', label: words.broadcastsASecond },
  { key: 'gap', label: words.gapMs },
];

/** Asks what is to be swept and how, and starts the sweep. */
export function StartSweepDialog({ site, onClose }: { site: Site; onClose: () => void }) {
  const [ranges, setRanges] = useState('');
  const [exclusions, setExclusions] = useState('');
  const [pace, setPace] = useState<Pace>('steady');
  const [figures, setFigures] = useState<Figures>({ rate: 50, devices: 4, perDevice: 1, perNetwork: 32, rounds: 3, broadcasts: 20, gap: 100 });
  const [portSet, setPortSet] = useState('telling');
  const [portList, setPortList] = useState('22, 80, 443');
  const [chosen, setChosen] = useState('');
  const [plan, setPlan] = useState<PlanDraft>(noPlan);
  const navigate = useNavigate();
  const outdated = useOutdated();
  const vantages = useQuery({ queryKey: keys.vantages, queryFn: async () => (await answer(api.GET('/api/v1/vantages'))).items });
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
      await outdated('sweeps');
      await navigate(`/sites/${site.id}/sweeps/${sweep.id}`);
    },
  });
  return (
    <FormDialog
      title={words.startASweepOf(site.name)}
      does={words.start}
      failure={vantages.error ?? start.error}
      busy={start.isPending}
      onSubmit={() => start.mutate()}
      onClose={onClose}
    >
      <TextField select label={words.from} required value={vantage} onChange={(e) => setChosen(e.target.value)} helperText={words.theInterfaceOfThisServices}>
        {(vantages.data ?? []).map((v) => (
          <MenuItem key={v.name} value={v.name}>
            {v.name}: {v.prefixes.join(', ') || words.noAddress}
          </MenuItem>
        ))}
      </TextField>
      <TextField label={words.ranges} multiline value={ranges} onChange={(e) => setRanges(e.target.value)} helperText={words.n10401910} />
      <TextField label={words.leaveOut} value={exclusions} onChange={(e) => setExclusions(e.target.value)} helperText={words.writtenInTheSameWay} />
      <TextField select label={words.pace} value={pace} onChange={(e) => setPace(e.target.value as Pace)}>
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
      <TextField select label={words.ports} value={portSet} onChange={(e) => setPortSet(e.target.value)}>
        {portSets.map((p) => (
          <MenuItem key={p.ports} value={p.ports}>
            {p.says}
          </MenuItem>
        ))}
      </TextField>
      {portSet === 'list' && <TextField label={words.listOfPorts} value={portList} onChange={(e) => setPortList(e.target.value)} helperText="22, 80, 8000-8100" />}
      <PlanFields plan={plan} onChange={setPlan} />
      {vantages.data?.length === 0 && <Alert severity="warning">{words.thisMachineHasNoInterface}</Alert>}
    </FormDialog>
  );
}
