import { Button, Stack, TextField } from '@mui/material';
import { useMutation } from '@tanstack/react-query';
import { useState, type SubmitEvent, type ReactNode } from 'react';

import { answer, api, wantsCode } from '../api/client';
import { Failure } from '../app/parts';
import { words } from './words';

/** Asks for name and password, and for a code where the user has a second factor. */
export function SignInForm({ onSignedIn, known = '', head, foot }: { onSignedIn: (user: string) => Promise<void>; known?: string; head?: ReactNode; foot?: ReactNode }) {
  const [user, setUser] = useState(known);
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const [coded, setCoded] = useState(false);
  const signIn = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/session', { body: { user, password, ...(coded && { code }) } })),
    onError: (failure) => {
      if (wantsCode(failure)) setCoded(true);
    },
    onSuccess: () => onSignedIn(user),
  });
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    signIn.mutate();
  };
  return (
    <Stack component="form" spacing={2.5} onSubmit={submit}>
      {head}
      <TextField label={words.name} autoComplete="username" required autoFocus={known === ''} value={user} onChange={(e) => setUser(e.target.value)} />
      <TextField
        label={words.password}
        type="password"
        autoComplete="current-password"
        required
        autoFocus={known !== ''}
        value={password}
        onChange={(e) => setPassword(e.target.value)}
      />
      {coded && (
        <TextField
          label={words.code}
          autoComplete="one-time-code"
          required
          autoFocus
          value={code}
          onChange={(e) => setCode(e.target.value)}
          helperText={words.sixDigitsOfYourAuthenticator}
        />
      )}
      {!(wantsCode(signIn.error) && code === '') && <Failure failure={signIn.error} />}
      <Button type="submit" variant="contained" size="large" loading={signIn.isPending}>
        {words.signIn}
      </Button>
      {foot}
    </Stack>
  );
}
