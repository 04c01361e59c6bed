import { Alert, Box, Button, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type SubmitEvent } from 'react';

import { answer, api } from '../api/client';
import { keys } from '../app/keys';
import { DeviceText, Failure, Panel } from '../app/parts';
import { words } from './words';

/** Turns one's second factor on, in three steps, or off. */
export function SecondFactor({ on }: { on: boolean }) {
  return <Panel title={words.secondFactor}>{on ? <TurnOff /> : <TurnOn />}</Panel>;
}

function useSessionAgain() {
  const queries = useQueryClient();
  return () => queries.invalidateQueries({ queryKey: keys.session });
}

function TurnOn() {
  const [password, setPassword] = useState('');
  const begin = useMutation({ mutationFn: () => answer(api.POST('/api/v1/second-factor', { body: { password } })) });
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    begin.mutate();
  };
  if (begin.data) return <Confirm secret={begin.data.secret} picture={begin.data.picture} />;
  return (
    <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
      <Typography color="textSecondary">{words.withASecondFactorA}</Typography>
      <TextField label={words.password} type="password" required autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
      <Failure failure={begin.error} />
      <Button type="submit" variant="contained" loading={begin.isPending} sx={{ alignSelf: 'start' }}>
        {words.setUpASecondFactor}
      </Button>
    </Stack>
  );
}

function Confirm({ secret, picture }: { secret: string; picture: string }) {
  const [code, setCode] = useState('');
  const again = useSessionAgain();
  const confirm = useMutation({ mutationFn: () => answer(api.PUT('/api/v1/second-factor', { body: { code } })) });
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    confirm.mutate();
  };
  if (confirm.data) return <Recovery codes={confirm.data.codes} onDone={() => void again()} />;
  return (
    <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
      <Typography>{words.showThisToYourAuthenticator}</Typography>
      <Box component="img" src={picture} alt={words.theSecretOfTheSecond} sx={{ width: 220, height: 220, bgcolor: '#fff', p: 1 }} />
      <DeviceText>{secret}</DeviceText>
      <TextField
        label={words.codeItShows}
        required
        autoFocus
        autoComplete="one-time-code"
        slotProps={{ htmlInput: { inputMode: 'numeric' } }}
        value={code}
        onChange={(e) => setCode(e.target.value)}
      />
      <Failure failure={confirm.error} />
      <Button type="submit" variant="contained" loading={confirm.isPending} sx={{ alignSelf: 'start' }}>
        {words.turnItOn}
      </Button>
    </Stack>
  );
}

function Recovery({ codes, onDone }: { codes: string[]; onDone: () => void }) {
  return (
    <Stack spacing={2} sx={{ maxWidth: 420 }}>
      <Alert severity="success">{words.theSecondFactorIsOn}</Alert>
      <Typography>{words.keepTheseRecoveryCodesWhere}</Typography>
      <Box component="ul" aria-label={words.recoveryCodes} sx={{ m: 0, pl: 2.5, columns: 2 }}>
        {codes.map((c) => (
          <li key={c}>
            <DeviceText>{c}</DeviceText>
          </li>
        ))}
      </Box>
      <Button variant="contained" onClick={onDone} sx={{ alignSelf: 'start' }}>
        {words.iHaveKeptThem}
      </Button>
    </Stack>
  );
}

function TurnOff() {
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const again = useSessionAgain();
  const off = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/second-factor/removal', { body: { password, code } })),
    onSuccess: again,
  });
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    off.mutate();
  };
  return (
    <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
      <Typography>{words.aCodeOfYourAuthenticator}</Typography>
      <TextField label={words.password} type="password" required autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
      <TextField label={words.code} required autoComplete="one-time-code" value={code} onChange={(e) => setCode(e.target.value)} />
      <Failure failure={off.error} />
      <Button type="submit" variant="outlined" color="error" loading={off.isPending} sx={{ alignSelf: 'start' }}>
        {words.turnItOff}
      </Button>
    </Stack>
  );
}
