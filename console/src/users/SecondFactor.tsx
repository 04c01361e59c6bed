import { Alert, Box, Button, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';

import { answer, api } from '../api/client';
import { DeviceText, Failure, Panel } from '../app/parts';

/** Turns one's second factor on, in three steps, or off. */
export function SecondFactor({ on }: { on: boolean }) {
  return <Panel title="Second factor">{on ? <TurnOff /> : <TurnOn />}</Panel>;
}

function useSessionAgain() {
  const queries = useQueryClient();
  return () => queries.invalidateQueries({ queryKey: ['session'] });
}

function TurnOn() {
  const [password, setPassword] = useState('');
  const begin = useMutation({ mutationFn: () => answer(api.POST('/api/v1/second-factor', { body: { password } })) });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    begin.mutate();
  };
  if (begin.data) return <Confirm secret={begin.data.secret} picture={begin.data.picture} />;
  return (
    <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
      <Typography color="textSecondary">
        With a second factor a code of six digits is asked for besides the password. Any authenticator that follows RFC 6238 shows it.
      </Typography>
      <TextField label="Password" type="password" required autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
      <Failure failure={begin.error} />
      <Button type="submit" variant="contained" loading={begin.isPending} sx={{ alignSelf: 'start' }}>
        Set up a second factor
      </Button>
    </Stack>
  );
}

function Confirm({ secret, picture }: { secret: string; picture: string }) {
  const [code, setCode] = useState('');
  const again = useSessionAgain();
  const confirm = useMutation({ mutationFn: () => answer(api.PUT('/api/v1/second-factor', { body: { code } })) });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    confirm.mutate();
  };
  if (confirm.data) return <Recovery codes={confirm.data.codes} onDone={() => void again()} />;
  return (
    <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
      <Typography>Show this to your authenticator, or type the text below it in:</Typography>
      <Box component="img" src={picture} alt="The secret of the second factor, for an authenticator to read" sx={{ width: 220, height: 220, bgcolor: '#fff', p: 1 }} />
      <DeviceText>{secret}</DeviceText>
      <TextField
        label="Code it shows"
        required
        autoFocus
        autoComplete="one-time-code"
        slotProps={{ htmlInput: { inputMode: 'numeric' } }}
        value={code}
        onChange={(e) => setCode(e.target.value)}
      />
      <Failure failure={confirm.error} />
      <Button type="submit" variant="contained" loading={confirm.isPending} sx={{ alignSelf: 'start' }}>
        Turn it on
      </Button>
    </Stack>
  );
}

function Recovery({ codes, onDone }: { codes: string[]; onDone: () => void }) {
  return (
    <Stack spacing={2} sx={{ maxWidth: 420 }}>
      <Alert severity="success">The second factor is on. Other sessions of yours have ended.</Alert>
      <Typography>Keep these recovery codes where you find them without your authenticator. Each lets you in once, and they are shown only now:</Typography>
      <Box component="ul" aria-label="Recovery codes" sx={{ m: 0, pl: 2.5, columns: 2 }}>
        {codes.map((c) => (
          <li key={c}>
            <DeviceText>{c}</DeviceText>
          </li>
        ))}
      </Box>
      <Button variant="contained" onClick={onDone} sx={{ alignSelf: 'start' }}>
        I have kept them
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
  const submit = (e: FormEvent) => {
    e.preventDefault();
    off.mutate();
  };
  return (
    <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
      <Typography>A code of your authenticator is asked for when you sign in.</Typography>
      <TextField label="Password" type="password" required autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
      <TextField label="Code" required autoComplete="one-time-code" value={code} onChange={(e) => setCode(e.target.value)} />
      <Failure failure={off.error} />
      <Button type="submit" variant="outlined" color="error" loading={off.isPending} sx={{ alignSelf: 'start' }}>
        Turn it off
      </Button>
    </Stack>
  );
}
