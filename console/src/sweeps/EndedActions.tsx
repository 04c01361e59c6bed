import { Button, Dialog, DialogActions, DialogContent, DialogContentText, DialogTitle, Stack } from '@mui/material';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { answer, api, type Sweep } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { aboutSweeps, keys, useOutdated } from '../app/keys';
import { Failure } from '../app/parts';
import { words } from './words';

/** What can be done with a sweep that is over. */
export function EndedActions({ sweep, onContinued }: { sweep: Sweep; onContinued: () => void }) {
  const [asking, setAsking] = useState(false);
  const queries = useQueryClient();
  const outdated = useOutdated();
  const navigate = useNavigate();
  const path = { sweep: sweep.id };
  const goOn = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/sweeps/{sweep}/continue', { params: { path } })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: keys.sweep(sweep.id) });
      onContinued();
    },
  });
  const pin = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sweeps/{sweep}/pinned', { params: { path }, body: { pinned: !sweep.pinned } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.sweep(sweep.id) }),
  });
  const discard = useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/sweeps/{sweep}', { params: { path } })),
    onSuccess: async () => {
      void outdated(...aboutSweeps);
      await navigate(`/sites/${sweep.site}/sweeps`);
    },
  });
  return (
    <Stack spacing={1}>
      <Stack direction="row" spacing={1} sx={{ justifyContent: 'end' }}>
        {sweep.state !== 'done' && (
          <Button variant="contained" startIcon={<Icon of={icons.playArrow} />} loading={goOn.isPending} onClick={() => goOn.mutate()}>
            {words.resume}
          </Button>
        )}
        <Button variant="outlined" startIcon={<Icon of={icons.pushPin} />} loading={pin.isPending} onClick={() => pin.mutate()}>
          {sweep.pinned ? words.unpin : words.pin}
        </Button>
        <Button variant="outlined" color="error" startIcon={<Icon of={icons.delete} />} onClick={() => setAsking(true)}>
          {words.discard}
        </Button>
      </Stack>
      <Failure failure={goOn.error ?? pin.error} />
      {asking && (
        <Dialog open onClose={() => setAsking(false)}>
          <DialogTitle>
            {words.discardSweep} {sweep.id}?
          </DialogTitle>
          <DialogContent>
            <DialogContentText>{words.theSweepAndAllThat}</DialogContentText>
            <Failure failure={discard.error} />
          </DialogContent>
          <DialogActions>
            <Button onClick={() => setAsking(false)}>{words.cancel}</Button>
            <Button color="error" variant="contained" loading={discard.isPending} onClick={() => discard.mutate()}>
              {words.discardIt}
            </Button>
          </DialogActions>
        </Dialog>
      )}
    </Stack>
  );
}
