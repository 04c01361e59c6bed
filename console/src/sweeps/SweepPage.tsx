import { Alert, Button, Stack } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useParams } from 'react-router';

import { answer, api } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { Loaded } from '../app/Loaded';
import { Failure, Page } from '../app/parts';
import { useMay } from '../app/queries';
import { EndedActions } from './EndedActions';
import { Sightings } from './Sightings';
import { StateTag } from './state';
import { Ended, Log, Running } from './SweepAccount';
import { useSweepEvents } from './useSweepEvents';
import { words } from './words';

/** One sweep: how far it is, and what it has seen so far. */
export function SweepPage() {
  const id = Number(useParams().sweep);
  const [turn, setTurn] = useState(0);
  const watched = useSweepEvents(id, turn);
  const stored = useQuery({ queryKey: keys.sweep(id), queryFn: () => answer(api.GET('/api/v1/sweeps/{sweep}', { params: { path: { sweep: id } } })) });
  const may = useMay('sweep');
  const stop = useMutation({ mutationFn: () => answer(api.POST('/api/v1/sweeps/{sweep}/stop', { params: { path: { sweep: id } } })) });
  const sweep = watched.final ?? stored.data;
  if (!sweep)
    return (
      <Loaded title={words.sweep} query={stored}>
        {() => null}
      </Loaded>
    );
  const running = sweep.state === 'running';
  return (
    <Page
      title={
        <Stack direction="row" spacing={1.5} sx={{ alignItems: 'center' }}>
          <span>
            {words.sweep} {sweep.id}
          </span>
          <StateTag state={sweep.state} />
        </Stack>
      }
      actions={
        may &&
        (running ? (
          <Button variant="outlined" color="warning" startIcon={<Icon of={icons.stop} />} loading={stop.isPending} onClick={() => stop.mutate()}>
            {words.stopAndKeepWhatWas}
          </Button>
        ) : (
          <EndedActions sweep={sweep} onContinued={() => setTurn(turn + 1)} />
        ))
      }
    >
      <Failure failure={stop.error} />
      {watched.broken && running && <Alert severity="warning">{words.connectionLostReconnectingWhatIs}</Alert>}
      {watched.warnings.map((w) => (
        <Alert key={w} severity="info">
          {w}
        </Alert>
      ))}
      {sweep.failure && <Alert severity="error">{sweep.failure}</Alert>}
      {running ? <Running progress={watched.progress} sweep={sweep} /> : <Ended sweep={sweep} />}
      <Sightings sweep={sweep} />
      {!running && <Log id={id} />}
    </Page>
  );
}
