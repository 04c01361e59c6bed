import { Alert, Button, Stack, Table, TableBody, TableCell, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';

import { answer, api } from '../api/client';
import { DeviceText, Failure, Page, Panel, RemoveButton } from '../app/parts';
import { useSession } from '../app/queries';
import { moment, visible } from '../lib/format';
import { PasswordField } from './UsersPage';

/** One's own password and tokens. */
export function AccountPage() {
  const session = useSession().data;
  return (
    <Page title={session ? `${session.user}, who may ${session.role}` : 'Account'}>
      <OwnPassword />
      <Tokens />
    </Page>
  );
}

function OwnPassword() {
  const [password, setPassword] = useState('');
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/password', { body: { password } })),
    // All sessions end, this one too.
    onSuccess: () => queries.invalidateQueries({ queryKey: ['session'] }),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    set.mutate();
  };
  return (
    <Panel title="Password">
      <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
        <PasswordField label="New password" value={password} onText={setPassword} />
        <Failure failure={set.error} />
        <Button type="submit" variant="contained" loading={set.isPending} sx={{ alignSelf: 'start' }}>
          Set it and sign in again
        </Button>
      </Stack>
    </Panel>
  );
}

function Tokens() {
  const [label, setLabel] = useState('');
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ['tokens'] });
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: async () => (await answer(api.GET('/api/v1/tokens'))) ?? [] });
  const add = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/tokens', { body: { label } })),
    onSuccess: async () => {
      setLabel('');
      await again();
    },
  });
  const remove = useMutation({
    mutationFn: (token: number) => answer(api.DELETE('/api/v1/tokens/{token}', { params: { path: { token } } })),
    onSuccess: again,
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    add.mutate();
  };
  return (
    <Panel title="Tokens for the command line">
      <Stack spacing={2}>
        <Typography color="textSecondary">
          With a token a command line on another machine acts for you: airdrift --server URL --token-file FILE.
        </Typography>
        <Failure failure={tokens.error ?? add.error ?? remove.error} />
        {add.data && (
          <Alert severity="success">
            The token of {visible(add.data.label)}, told this once: <DeviceText>{add.data.secret}</DeviceText>
          </Alert>
        )}
        {tokens.data && tokens.data.length > 0 && (
          <Table size="small" aria-label="Your tokens">
            <TableHead>
              <TableRow>
                <TableCell>For</TableCell>
                <TableCell>Since</TableCell>
                <TableCell>Change</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {tokens.data.map((t) => (
                <TableRow key={t.id}>
                  <TableCell>{visible(t.label)}</TableCell>
                  <TableCell>{moment(t.created)}</TableCell>
                  <TableCell>
                    <RemoveButton label={`Take the token of ${visible(t.label)} away`} onRemove={() => remove.mutate(t.id)} />
                  </TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        )}
        <Stack component="form" direction={{ xs: 'column', sm: 'row' }} spacing={2} onSubmit={submit} sx={{ alignItems: { sm: 'start' } }}>
          <TextField size="small" label="What it is for" required value={label} onChange={(e) => setLabel(e.target.value)} />
          <Button type="submit" variant="outlined" loading={add.isPending}>
            Make a token
          </Button>
        </Stack>
      </Stack>
    </Panel>
  );
}
