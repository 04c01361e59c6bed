import { Alert, Button, Checkbox, FormControlLabel, Stack, Table, TableBody, TableCell, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';

import { answer, api } from '../api/client';
import { DeviceText, Failure, Page, Panel, RemoveButton, Scrolling } from '../app/parts';
import { useSession } from '../app/queries';
import { moment, visible } from '../lib/format';
import { SecondFactor } from './SecondFactor';
import { SessionTable } from './SessionTable';
import { PasswordField } from './UsersPage';

/** One's own password, second factor, and what lets one in besides. */
export function AccountPage() {
  const session = useSession().data;
  return (
    <Page title={session ? `${session.user}, who may ${session.role}` : 'Account'}>
      {session?.limited && <Alert severity="warning">This service requires a second factor of everybody. Set yours up first; everything else follows.</Alert>}
      {session && <SecondFactor on={session.secondFactor} />}
      {session && !session.limited && (
        <>
          <OwnPassword />
          <Tokens />
          <Sessions />
        </>
      )}
    </Page>
  );
}

function OwnPassword() {
  const [present, setPresent] = useState('');
  const [password, setPassword] = useState('');
  const [revokeTokens, setRevoke] = useState(false);
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/password', { body: { present, password, revokeTokens } })),
    onSuccess: async () => {
      setPresent('');
      setPassword('');
      for (const key of ['tokens', 'access']) await queries.invalidateQueries({ queryKey: [key] });
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    set.mutate();
  };
  return (
    <Panel title="Password">
      <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
        <TextField label="Present password" type="password" required autoComplete="current-password" value={present} onChange={(e) => setPresent(e.target.value)} />
        <PasswordField label="New password" value={password} onText={setPassword} />
        <FormControlLabel control={<Checkbox checked={revokeTokens} onChange={(e) => setRevoke(e.target.checked)} />} label="Delete my tokens as well" />
        <Failure failure={set.error} />
        {set.isSuccess && <Alert severity="success">The password is set. Your other sessions have ended.</Alert>}
        <Button type="submit" variant="contained" loading={set.isPending} sx={{ alignSelf: 'start' }}>
          Set password
        </Button>
      </Stack>
    </Panel>
  );
}

function Sessions() {
  const queries = useQueryClient();
  const access = useQuery({ queryKey: ['access'], queryFn: () => answer(api.GET('/api/v1/access')) });
  const revoke = useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/access')),
    onSuccess: async () => {
      for (const key of ['tokens', 'access']) await queries.invalidateQueries({ queryKey: [key] });
    },
  });
  return (
    <Panel title="Where you are signed in">
      <Stack spacing={2}>
        <Failure failure={access.error ?? revoke.error} />
        {access.data && <SessionTable sessions={access.data.sessions} />}
        <Button variant="outlined" color="error" loading={revoke.isPending} onClick={() => revoke.mutate()} sx={{ alignSelf: 'start' }}>
          End all other sessions and delete all my tokens
        </Button>
      </Stack>
    </Panel>
  );
}

function Tokens() {
  const [label, setLabel] = useState('');
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ['tokens'] });
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: async () => (await answer(api.GET('/api/v1/tokens')))?.items ?? [] });
  const add = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/tokens', { body: { label, days: 90 } })),
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
          With a token a command line on another machine acts for you: airdrift --server URL --token-file FILE. On this service’s own machine none is needed. A token ends after 90 days.
        </Typography>
        <Failure failure={tokens.error ?? add.error ?? remove.error} />
        {add.data && (
          <Alert severity="success">
            The token of {visible(add.data.label)}, told this once: <DeviceText>{add.data.secret}</DeviceText>
          </Alert>
        )}
        {tokens.data && tokens.data.length > 0 && (
          <Scrolling>
            <Table size="small" aria-label="Your tokens">
              <TableHead>
                <TableRow>
                  <TableCell>For</TableCell>
                  <TableCell>Since</TableCell>
                  <TableCell>Used</TableCell>
                  <TableCell>Until</TableCell>
                  <TableCell>Change</TableCell>
                </TableRow>
              </TableHead>
              <TableBody>
                {tokens.data.map((t) => (
                  <TableRow key={t.id}>
                    <TableCell>{visible(t.label)}</TableCell>
                    <TableCell>{moment(t.created)}</TableCell>
                    <TableCell>{t.used ? moment(t.used) : 'never'}</TableCell>
                    <TableCell>{moment(t.expires)}</TableCell>
                    <TableCell>
                      <RemoveButton label={`Delete the token of ${visible(t.label)}`} onRemove={() => remove.mutate(t.id)} />
                    </TableCell>
                  </TableRow>
                ))}
              </TableBody>
            </Table>
          </Scrolling>
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
