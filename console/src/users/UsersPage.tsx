import { Alert, Button, MenuItem, TextField } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys, useOutdated } from '../app/keys';
import { Within } from '../app/Loaded';
import { DeleteButton, FormDialog } from '../app/Dialogs';
import { DeviceText, Failure, Loading, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import type { Role } from '../app/queries';
import { moment } from '../lib/format';
import { SessionTable } from './SessionTable';
import { words } from './words';

type User = Schema['User'];

const roles: { role: Role; says: string }[] = [
  { role: 'look', says: words.lookReadWhatIsKnown },
  { role: 'sweep', says: words.sweepAlsoSweepWriteNotes },
  { role: 'administer', says: words.administerAlsoKeepSitesFences },
];

/** Who may sign in, what each may do, and who did what. */
export function UsersPage() {
  const [adding, setAdding] = useState(false);
  const users = useQuery({ queryKey: keys.users, queryFn: async () => (await answer(api.GET('/api/v1/users'))).items });
  return (
    <Page
      title={words.users}
      actions={
        <Button variant="contained" startIcon={<Icon of={icons.personAdd} />} onClick={() => setAdding(true)}>
          {words.addAUser}
        </Button>
      }
    >
      <Within query={users}>{(list) => <UserTable users={list} />}</Within>
      <Audit />
      {adding && <AddDialog onClose={() => setAdding(false)} />}
    </Page>
  );
}

/** Carries out a change of a user and reads the list anew. */
function useUserChange<T>(change: (value: T) => Promise<unknown>, then?: () => void) {
  const outdated = useOutdated();
  return useMutation({
    mutationFn: change,
    onSuccess: async () => {
      await outdated('users', 'audit', 'session');
      then?.();
    },
  });
}

function UserTable({ users }: { users: User[] }) {
  const [resetting, setResetting] = useState('');
  const [showing, setShowing] = useState('');
  const role = useUserChange(({ user, role }: { user: string; role: Role }) => answer(api.PUT('/api/v1/users/{user}/role', { params: { path: { user } }, body: { role } })));
  const remove = useUserChange((user: string) => answer(api.DELETE('/api/v1/users/{user}', { params: { path: { user } } })));
  return (
    <Panel>
      <Failure failure={role.error ?? remove.error} />
      <SmallTable
        label={words.users}
        rows={users}
        rowKey={(u) => u.name}
        columns={[
          { head: words.name, cell: (u) => u.name },
          { head: words.role, cell: (u) => <RoleField label={words.roleOf(u.name)} value={u.role} onRole={(r) => role.mutate({ user: u.name, role: r })} plain /> },
          { head: words.secondFactor, cell: (u) => (u.secondFactor ? 'on' : 'off') },
          { head: words.since, line: true, cell: (u) => moment(u.created) },
          {
            head: words.change,
            line: true,
            cell: (u) => (
              <>
                <Button size="small" onClick={() => setResetting(u.name)}>
                  {words.newPassword}
                </Button>
                <Button size="small" onClick={() => setShowing(u.name)}>
                  {words.access}
                </Button>
                <DeleteButton label={words.deleteIt(u.name)} says={words.theTokensAndSessionsOf} onDelete={() => remove.mutate(u.name)} />
              </>
            ),
          },
        ]}
      />
      {resetting && <PasswordDialog user={resetting} onClose={() => setResetting('')} />}
      {showing && <AccessDialog user={users.find((u) => u.name === showing)} name={showing} onClose={() => setShowing('')} />}
    </Panel>
  );
}

function RoleField({ label, value, onRole, plain }: { label: string; value: Role; onRole: (role: Role) => void; plain?: boolean }) {
  return (
    <TextField
      select
      size="small"
      variant={plain ? 'standard' : 'outlined'}
      label={plain ? undefined : label}
      value={value}
      onChange={(e) => onRole(e.target.value as Role)}
      slotProps={{ select: { SelectDisplayProps: { 'aria-label': label }, ...(plain && { renderValue: (role: unknown) => String(role) }) } }}
      sx={{ minWidth: plain ? 110 : 150 }}
    >
      {roles.map((r) => (
        <MenuItem key={r.role} value={r.role}>
          {r.says}
        </MenuItem>
      ))}
    </TextField>
  );
}

function AddDialog({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState('');
  const [role, setRole] = useState<Role>('look');
  const [password, setPassword] = useState('');
  const add = useUserChange(() => answer(api.POST('/api/v1/users', { body: { name, role, password } })), onClose);
  return (
    <FormDialog title={words.addAUser} does={words.add} failure={add.error} busy={add.isPending} onSubmit={() => add.mutate(undefined)} onClose={onClose}>
      <TextField label={words.usersName} required autoFocus value={name} onChange={(e) => setName(e.target.value)} helperText={words.lettersDigitsDotDashUnderscore} />
      <RoleField label={words.role} value={role} onRole={setRole} />
      <PasswordField label={words.usersPassword} value={password} onText={setPassword} />
    </FormDialog>
  );
}

function PasswordDialog({ user, onClose }: { user: string; onClose: () => void }) {
  const [password, setPassword] = useState('');
  const reset = useUserChange(() => answer(api.PUT('/api/v1/users/{user}/password', { params: { path: { user } }, body: { password } })), onClose);
  return (
    <FormDialog title={words.newPasswordOf(user)} does={words.set} failure={reset.error} busy={reset.isPending} onSubmit={() => reset.mutate(undefined)} onClose={onClose}>
      <Alert severity="info">{words.theUsersSessionsEndAnd}</Alert>
      <PasswordField label={words.newPassword} value={password} onText={setPassword} />
    </FormDialog>
  );
}

/** What lets a user in besides the password, to be revoked. */
function AccessDialog({ user, name, onClose }: { user: User | undefined; name: string; onClose: () => void }) {
  const path = { user: name };
  const access = useQuery({ queryKey: keys.access(name), queryFn: () => answer(api.GET('/api/v1/users/{user}/access', { params: { path } })) });
  const revoke = useUserChange(() => answer(api.DELETE('/api/v1/users/{user}/access', { params: { path } })), onClose);
  const reset = useUserChange(() => answer(api.DELETE('/api/v1/users/{user}/second-factor', { params: { path } })));
  return (
    <FormDialog
      title={words.accessOf(name)}
      does={words.endSessionsDeleteTokens}
      failure={access.error ?? revoke.error ?? reset.error}
      busy={revoke.isPending}
      onSubmit={() => revoke.mutate(undefined)}
      onClose={onClose}
    >
      {access.isPending && <Loading />}
      {access.data && (
        <>
          <SessionTable sessions={access.data.sessions} />
          {access.data.tokens.map((t) => (
            <span key={t.id}>
              {words.tokenFor} <DeviceText>{t.label}</DeviceText>
              {words.usedToo} {t.used ? moment(t.used) : words.never}
              {words.goodUntil} {moment(t.expires)}
            </span>
          ))}
          {access.data.tokens.length === 0 && <span>{words.noToken}</span>}
        </>
      )}
      {user?.secondFactor && (
        <Button variant="outlined" color="error" loading={reset.isPending} onClick={() => reset.mutate(undefined)}>
          {words.turnTheSecondFactorOff}
        </Button>
      )}
    </FormDialog>
  );
}

/** A field for a password to be set. */
export function PasswordField({ label, value, onText }: { label: string; value: string; onText: (text: string) => void }) {
  return (
    <TextField
      label={label}
      type="password"
      required
      autoComplete="new-password"
      value={value}
      onChange={(e) => onText(e.target.value)}
      helperText={words.atLeast10CharactersAnd}
    />
  );
}

function Audit() {
  const audit = useQuery({ queryKey: keys.audit, queryFn: async () => (await answer(api.GET('/api/v1/audit'))).items });
  return (
    <Panel title={words.whoDidWhat}>
      <Failure failure={audit.error} />
      <SmallTable
        label={words.auditLogTheNewestFirst}
        rows={audit.data ?? []}
        rowKey={(l) => l.id}
        columns={[
          { head: words.at, line: true, cell: (l) => moment(l.at) },
          { head: words.who, cell: (l) => l.who || words.nobodySignedIn },
          { head: words.from, cell: (l) => l.origin },
          { head: words.action, cell: (l) => l.action },
          { head: words.subject, cell: (l) => <DeviceText>{l.subject}</DeviceText> },
          { head: words.outcome, right: true, cell: (l) => l.outcome },
        ]}
      />
    </Panel>
  );
}
