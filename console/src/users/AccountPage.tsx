import { Alert, Button, Checkbox, FormControlLabel, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState, type SubmitEvent } from 'react';

import { answer, api } from '../api/client';
import { keys, useOutdated } from '../app/keys';
import { DeleteButton } from '../app/Dialogs';
import { DeviceText, Failure, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useSession } from '../app/queries';
import { moment, visible } from '../lib/format';
import { SecondFactor } from './SecondFactor';
import { SessionTable } from './SessionTable';
import { PasswordField } from './UsersPage';
import { words } from './words';

/** One's own password, second factor, and what lets one in besides. */
export function AccountPage() {
  const session = useSession().data;
  return (
    <Page title={session ? words.whoMay(session.user, session.role) : words.account}>
      {session?.limited && <Alert severity="warning">{words.thisServiceRequiresASecond}</Alert>}
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
  const outdated = useOutdated();
  const set = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/password', { body: { present, password, revokeTokens } })),
    onSuccess: async () => {
      setPresent('');
      setPassword('');
      await outdated('tokens', 'access');
    },
  });
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    set.mutate();
  };
  return (
    <Panel title={words.password}>
      <Stack component="form" spacing={2} onSubmit={submit} sx={{ maxWidth: 420 }}>
        <TextField label={words.presentPassword} type="password" required autoComplete="current-password" value={present} onChange={(e) => setPresent(e.target.value)} />
        <PasswordField label={words.newPassword} value={password} onText={setPassword} />
        <FormControlLabel control={<Checkbox checked={revokeTokens} onChange={(e) => setRevoke(e.target.checked)} />} label={words.deleteMyTokensAsWell} />
        <Failure failure={set.error} />
        {set.isSuccess && <Alert severity="success">{words.thePasswordIsSetYour}</Alert>}
        <Button type="submit" variant="contained" loading={set.isPending} sx={{ alignSelf: 'start' }}>
          {words.setPassword}
        </Button>
      </Stack>
    </Panel>
  );
}

function Sessions() {
  const outdated = useOutdated();
  const access = useQuery({ queryKey: keys.access(), queryFn: () => answer(api.GET('/api/v1/access')) });
  const revoke = useMutation({
    mutationFn: () => answer(api.DELETE('/api/v1/access')),
    onSuccess: async () => {
      await outdated('tokens', 'access');
    },
  });
  return (
    <Panel title={words.whereYouAreSignedIn}>
      <Stack spacing={2}>
        <Failure failure={access.error ?? revoke.error} />
        {access.data && <SessionTable sessions={access.data.sessions} />}
        <Button variant="outlined" color="error" loading={revoke.isPending} onClick={() => revoke.mutate()} sx={{ alignSelf: 'start' }}>
          {words.endAllOtherSessionsAnd}
        </Button>
      </Stack>
    </Panel>
  );
}

function Tokens() {
  const [label, setLabel] = useState('');
  const outdated = useOutdated();
  const again = () => outdated('tokens');
  const tokens = useQuery({ queryKey: keys.tokens, queryFn: async () => (await answer(api.GET('/api/v1/tokens'))).items });
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
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    add.mutate();
  };
  return (
    <Panel title={words.tokensForTheCommandLine}>
      <Stack spacing={2}>
        <Typography color="textSecondary">{words.withATokenACommand}</Typography>
        <Failure failure={tokens.error ?? add.error ?? remove.error} />
        {add.data && (
          <Alert severity="success">
            {words.theTokenOf} {visible(add.data.label)}
            {words.toldThisOnce} <DeviceText>{add.data.secret}</DeviceText>
          </Alert>
        )}
        {tokens.data && tokens.data.length > 0 && (
          <SmallTable
            label={words.yourTokens}
            rows={tokens.data}
            rowKey={(t) => t.id}
            columns={[
              { head: words.forIt, cell: (t) => visible(t.label) },
              { head: words.since, cell: (t) => moment(t.created) },
              { head: words.used, cell: (t) => (t.used ? moment(t.used) : 'never') },
              { head: words.until, cell: (t) => moment(t.expires) },
              {
                head: words.change,
                cell: (t) => <DeleteButton label={words.deleteTheTokenOf(visible(t.label))} says={words.commandLinesThatUseIt} onDelete={() => remove.mutate(t.id)} />,
              },
            ]}
          />
        )}
        <Stack component="form" direction={{ xs: 'column', sm: 'row' }} spacing={2} onSubmit={submit} sx={{ alignItems: { sm: 'start' } }}>
          <TextField size="small" label={words.whatItIsFor} required value={label} onChange={(e) => setLabel(e.target.value)} />
          <Button type="submit" variant="outlined" loading={add.isPending}>
            {words.makeAToken}
          </Button>
        </Stack>
      </Stack>
    </Panel>
  );
}
