import { Box, Button, Paper, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { useLocation, useNavigate } from 'react-router';

import { answer, api, wantsCode } from '../api/client';
import { ModeButton } from '../app/Frame';
import { Failure } from '../app/parts';

/** Asks for name and password, and goes on to where somebody wanted to go. */
export function SignInPage() {
  const [user, setUser] = useState('');
  const [password, setPassword] = useState('');
  const [code, setCode] = useState('');
  const [coded, setCoded] = useState(false);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const location = useLocation();
  const signIn = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/session', { body: { user, password, ...(coded && { code }) } })),
    onError: (failure) => {
      if (wantsCode(failure)) setCoded(true);
    },
    onSuccess: async () => {
      queries.clear();
      const from = (location.state as { from?: string } | null)?.from;
      await navigate(from?.startsWith('/') ? from : '/', { replace: true });
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    signIn.mutate();
  };
  return (
    <Box component="main" sx={{ minHeight: '100vh', display: 'grid', placeItems: 'center', p: 2 }}>
      <Box sx={{ position: 'absolute', top: 8, right: 8 }}>
        <ModeButton />
      </Box>
      <Paper variant="outlined" sx={{ p: 4, width: '100%', maxWidth: 400 }}>
        <Stack component="form" spacing={2.5} onSubmit={submit}>
          <Stack direction="row" spacing={1.5} sx={{ alignItems: 'center' }}>
            <Box component="img" src="/icon.svg" alt="" sx={{ width: 40, height: 40 }} />
            <Box>
              <Typography variant="h1">Airdrift</Typography>
              <Typography color="textSecondary">What is here, and who manages it</Typography>
            </Box>
          </Stack>
          <TextField label="Name" autoComplete="username" required autoFocus value={user} onChange={(e) => setUser(e.target.value)} />
          <TextField
            label="Password"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
          {coded && (
            <TextField
              label="Code"
              autoComplete="one-time-code"
              required
              autoFocus
              value={code}
              onChange={(e) => setCode(e.target.value)}
              helperText="Six digits of your authenticator, or a recovery code"
            />
          )}
          {!(wantsCode(signIn.error) && code === '') && <Failure failure={signIn.error} />}
          <Button type="submit" variant="contained" size="large" loading={signIn.isPending}>
            Sign in
          </Button>
          <Typography variant="body2" color="textSecondary">
            The first user is <code>administrator</code>; its first password is in the file console-password in the service’s data directory.
          </Typography>
        </Stack>
      </Paper>
    </Box>
  );
}
