import AddIcon from '@mui/icons-material/PersonAddOutlined';
import { Alert, Button, MenuItem, Table, TableBody, TableCell, TableHead, TableRow, TextField } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { DeviceText, Failure, FormDialog, Loading, Page, Panel, RemoveButton, Scrolling } from '../app/parts';
import type { Role } from '../app/queries';
import { moment } from '../lib/format';
import { SessionTable } from './SessionTable';

type User = Schema['User'];

const roles: { role: Role; says: string }[] = [
  { role: 'look', says: 'look: read what is known' },
  { role: 'sweep', says: 'sweep: also sweep, write notes, keep the register' },
  { role: 'administer', says: 'administer: also keep sites, fences and users' },
];

/** Who may sign in, what each may do, and who did what. */
export function UsersPage() {
  const [adding, setAdding] = useState(false);
  const users = useQuery({ queryKey: ['users'], queryFn: async () => (await answer(api.GET('/api/v1/users')))?.items ?? [] });
  return (
    <Page
      title="Users"
      actions={
        <Button variant="contained" startIcon={<AddIcon />} onClick={() => setAdding(true)}>
          Add a user
        </Button>
      }
    >
      <Failure failure={users.error} />
      {users.isPending && <Loading />}
      {users.data && <UserTable users={users.data} />}
      <Audit />
      {adding && <AddDialog onClose={() => setAdding(false)} />}
    </Page>
  );
}

/** Carries out a change of a user and reads the list anew. */
function useUserChange<T>(change: (value: T) => Promise<unknown>, then?: () => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: async () => {
      for (const key of ['users', 'audit', 'session']) await queries.invalidateQueries({ queryKey: [key] });
      then?.();
    },
  });
}

function UserTable({ users }: { users: User[] }) {
  const [resetting, setResetting] = useState('');
  const [showing, setShowing] = useState('');
  const role = useUserChange(({ user, role }: { user: string; role: Role }) =>
    answer(api.PUT('/api/v1/users/{user}/role', { params: { path: { user } }, body: { role } })),
  );
  const remove = useUserChange((user: string) => answer(api.DELETE('/api/v1/users/{user}', { params: { path: { user } } })));
  return (
    <Panel>
      <Failure failure={role.error ?? remove.error} />
      <Scrolling>
        <Table size="small" aria-label="Users">
          <TableHead>
            <TableRow>
              <TableCell>Name</TableCell>
              <TableCell>Role</TableCell>
              <TableCell>Second factor</TableCell>
              <TableCell>Since</TableCell>
              <TableCell>Change</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {users.map((u) => (
              <TableRow key={u.name}>
                <TableCell>{u.name}</TableCell>
                <TableCell>
                  <RoleField label={`Role of ${u.name}`} value={u.role} onRole={(r) => role.mutate({ user: u.name, role: r })} plain />
                </TableCell>
                <TableCell>{u.secondFactor ? 'on' : 'off'}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(u.created)}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  <Button size="small" onClick={() => setResetting(u.name)}>
                    New password
                  </Button>
                  <Button size="small" onClick={() => setShowing(u.name)}>
                    Access
                  </Button>
                  <RemoveButton label={`Delete ${u.name}`} says={`Delete ${u.name}, tokens and sessions included`} onRemove={() => remove.mutate(u.name)} />
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
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
    <FormDialog title="Add a user" does="Add" failure={add.error} busy={add.isPending} onSubmit={() => add.mutate(undefined)} onClose={onClose}>
      <TextField label="User’s name" required autoFocus value={name} onChange={(e) => setName(e.target.value)} helperText="Letters, digits, dot, dash, underscore and @" />
      <RoleField label="Role" value={role} onRole={setRole} />
      <PasswordField label="User’s password" value={password} onText={setPassword} />
    </FormDialog>
  );
}

function PasswordDialog({ user, onClose }: { user: string; onClose: () => void }) {
  const [password, setPassword] = useState('');
  const reset = useUserChange(() => answer(api.PUT('/api/v1/users/{user}/password', { params: { path: { user } }, body: { password } })), onClose);
  return (
    <FormDialog title={`New password of ${user}`} does="Set" failure={reset.error} busy={reset.isPending} onSubmit={() => reset.mutate(undefined)} onClose={onClose}>
      <Alert severity="info">The user’s sessions end, and the tokens are deleted.</Alert>
      <PasswordField label="New password" value={password} onText={setPassword} />
    </FormDialog>
  );
}

/** What lets a user in besides the password, to be revoked. */
function AccessDialog({ user, name, onClose }: { user: User | undefined; name: string; onClose: () => void }) {
  const path = { user: name };
  const access = useQuery({ queryKey: ['access', name], queryFn: () => answer(api.GET('/api/v1/users/{user}/access', { params: { path } })) });
  const revoke = useUserChange(() => answer(api.DELETE('/api/v1/users/{user}/access', { params: { path } })), onClose);
  const reset = useUserChange(() => answer(api.DELETE('/api/v1/users/{user}/second-factor', { params: { path } })));
  return (
    <FormDialog title={`Access of ${name}`} does="End sessions, delete tokens" failure={access.error ?? revoke.error ?? reset.error} busy={revoke.isPending} onSubmit={() => revoke.mutate(undefined)} onClose={onClose}>
      {access.isPending && <Loading />}
      {access.data && (
        <>
          <SessionTable sessions={access.data.sessions} />
          {access.data.tokens.map((t) => (
            <span key={t.id}>
              Token for <DeviceText>{t.label}</DeviceText>, used {t.used ? moment(t.used) : 'never'}, good until {moment(t.expires)}
            </span>
          ))}
          {access.data.tokens.length === 0 && <span>No token.</span>}
        </>
      )}
      {user?.secondFactor && (
        <Button variant="outlined" color="error" loading={reset.isPending} onClick={() => reset.mutate(undefined)}>
          Turn the second factor off
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
      helperText="At least 10 characters, and not one in common use"
    />
  );
}

function Audit() {
  const audit = useQuery({ queryKey: ['audit'], queryFn: async () => (await answer(api.GET('/api/v1/audit')))?.items ?? [] });
  return (
    <Panel title="Who did what">
      <Failure failure={audit.error} />
      <Scrolling>
        <Table size="small" aria-label="Audit log, the newest first">
          <TableHead>
            <TableRow>
              <TableCell>At</TableCell>
              <TableCell>Who</TableCell>
              <TableCell>From</TableCell>
              <TableCell>Action</TableCell>
              <TableCell>Subject</TableCell>
              <TableCell align="right">Outcome</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {audit.data?.map((l) => (
              <TableRow key={l.id}>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(l.at)}</TableCell>
                <TableCell>{l.who || 'nobody signed in'}</TableCell>
                <TableCell>{l.origin}</TableCell>
                <TableCell>{l.action}</TableCell>
                <TableCell>
                  <DeviceText>{l.subject}</DeviceText>
                </TableCell>
                <TableCell align="right">{l.outcome}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
    </Panel>
  );
}
