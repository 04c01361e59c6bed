import AddIcon from '@mui/icons-material/AddOutlined';
import { Alert, Button, MenuItem, Table, TableBody, TableCell, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { DeviceText, Empty, Failure, FormDialog, Loading, Page, Panel, RemoveButton, Scrolling } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { moment, visible } from '../lib/format';

type Credential = Schema['Credential'];
type NewCredential = Schema['NewCredential'];

/** The site's credentials, read anew where they change. */
function useCredentials(site: number) {
  return useQuery({
    queryKey: ['credentials', site],
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/credentials', { params: { path: { site } } })))?.items ?? [],
  });
}

/** How the site's agents let us in. What is secret goes in here and is never shown again. */
export function CredentialsPage() {
  const site = useSiteId();
  const mayChange = useMay('administer');
  const [adding, setAdding] = useState(false);
  const [trying, setTrying] = useState<Credential>();
  const list = useCredentials(site);
  return (
    <Page
      title="Credentials"
      actions={
        mayChange && (
          <Button variant="contained" startIcon={<AddIcon />} onClick={() => setAdding(true)}>
            Enter a credential
          </Button>
        )
      }
    >
      <Typography color="textSecondary">
        Agents of SNMP tell most to who is let in. A sweep tries these in their order, the one that worked on a device before first. Communities and keys are sealed in the database and are never shown.
      </Typography>
      <Failure failure={list.error} />
      {list.isPending && <Loading />}
      {list.data && <CredentialTable list={list.data} mayChange={mayChange} onTry={setTrying} />}
      {adding && <AddDialog site={site} onClose={() => setAdding(false)} />}
      {trying && <TryDialog site={site} credential={trying} onClose={() => setTrying(undefined)} />}
    </Page>
  );
}

function CredentialTable({ list, mayChange, onTry }: { list: Credential[]; mayChange: boolean; onTry: (c: Credential) => void }) {
  const queries = useQueryClient();
  const mayTry = useMay('sweep');
  const remove = useMutation({
    mutationFn: (credential: number) => answer(api.DELETE('/api/v1/credentials/{credential}', { params: { path: { credential } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ['credentials'] }),
  });
  if (list.length === 0) {
    return (
      <Panel>
        <Empty title="No credential yet">Sweeps try the community that agents come with, and nothing else.</Empty>
      </Panel>
    );
  }
  return (
    <Panel>
      <Failure failure={remove.error} />
      <Scrolling>
        <Table size="small" aria-label="Credentials">
          <TableHead>
            <TableRow>
              <TableCell>Name</TableCell>
              <TableCell>SNMP</TableCell>
              <TableCell>User</TableCell>
              <TableCell>Authentication</TableCell>
              <TableCell>Privacy</TableCell>
              <TableCell>Entered</TableCell>
              <TableCell>Change</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {list.map((c) => (
              <TableRow key={c.id}>
                <TableCell>{c.name}</TableCell>
                <TableCell>{c.version}</TableCell>
                <TableCell>{c.user}</TableCell>
                <TableCell>{c.authentication}</TableCell>
                <TableCell>{c.privacy}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>{moment(c.createdAt)}</TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  {mayTry && (
                    <Button size="small" onClick={() => onTry(c)}>
                      Try it on a device
                    </Button>
                  )}
                  {mayChange && <RemoveButton label={`Take ${c.name} away`} onRemove={() => remove.mutate(c.id)} />}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
    </Panel>
  );
}

const authentications = ['MD5', 'SHA', 'SHA-224', 'SHA-256', 'SHA-384', 'SHA-512'] as const;
const privacies = ['DES', 'AES', 'AES-192', 'AES-256'] as const;

function AddDialog({ site, onClose }: { site: number; onClose: () => void }) {
  const queries = useQueryClient();
  const [c, setC] = useState<NewCredential>({ name: '', version: '2c' });
  const set = (part: Partial<NewCredential>) => setC({ ...c, ...part });
  const three = c.version === '3';
  const add = useMutation({
    mutationFn: () =>
      answer(
        api.POST('/api/v1/sites/{site}/credentials', {
          params: { path: { site } },
          body: three
            ? { name: c.name, version: c.version, user: c.user, authentication: c.authentication, authenticationKey: c.authenticationKey, privacy: c.privacy, privacyKey: c.privacyKey }
            : { name: c.name, version: c.version, community: c.community },
        }),
      ),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['credentials'] });
      onClose();
    },
  });
  return (
    <FormDialog title="Enter a credential" does="Enter" failure={add.error} busy={add.isPending} onSubmit={() => add.mutate()} onClose={onClose}>
      <TextField label="Name of the credential" required autoFocus value={c.name} onChange={(e) => set({ name: e.target.value })} helperText="What people call it; it is shown, unlike the rest" />
      <TextField select label="Version of SNMP" value={c.version} onChange={(e) => set({ version: e.target.value as NewCredential['version'] })}>
        {(['1', '2c', '3'] as const).map((v) => (
          <MenuItem key={v} value={v}>
            {v}
          </MenuItem>
        ))}
      </TextField>
      {!three && <SecretField label="Community" required value={c.community} onText={(community) => set({ community })} />}
      {three && (
        <>
          <TextField label="User of the agent" required value={c.user ?? ''} onChange={(e) => set({ user: e.target.value })} />
          <TextField select label="Authentication" value={c.authentication ?? ''} onChange={(e) => set({ authentication: (e.target.value || undefined) as NewCredential['authentication'] })}>
            <MenuItem value="">none</MenuItem>
            {authentications.map((a) => (
              <MenuItem key={a} value={a}>
                {a}
              </MenuItem>
            ))}
          </TextField>
          {c.authentication && <SecretField label="Authentication key" required value={c.authenticationKey} onText={(authenticationKey) => set({ authenticationKey })} />}
          <TextField select label="Privacy" value={c.privacy ?? ''} onChange={(e) => set({ privacy: (e.target.value || undefined) as NewCredential['privacy'] })}>
            <MenuItem value="">none</MenuItem>
            {privacies.map((p) => (
              <MenuItem key={p} value={p}>
                {p}
              </MenuItem>
            ))}
          </TextField>
          {c.privacy && <SecretField label="Privacy key" required value={c.privacyKey} onText={(privacyKey) => set({ privacyKey })} />}
        </>
      )}
    </FormDialog>
  );
}

/** A field for a secret: what is typed is not shown, and the browser does not keep it. */
function SecretField({ label, required, value, onText }: { label: string; required?: boolean; value: string | undefined; onText: (text: string) => void }) {
  return <TextField label={label} type="password" autoComplete="new-password" required={required} value={value ?? ''} onChange={(e) => onText(e.target.value)} helperText="It cannot be read again" />;
}

function TryDialog({ site, credential, onClose }: { site: number; credential: Credential; onClose: () => void }) {
  const [wanted, setWanted] = useState('');
  const trial = useMutation({
    mutationFn: async () => {
      const found = await answer(api.GET('/api/v1/sites/{site}/devices', { params: { path: { site }, query: { text: wanted, limit: 100 } } }));
      const device = found.items.find((d) => d.addresses.includes(wanted) || d.name === wanted || d.mac === wanted);
      if (!device) throw new Error(`No device has the address, name or MAC ${wanted}`);
      return answer(api.POST('/api/v1/devices/{device}/credentials/{credential}', { params: { path: { device: device.id, credential: credential.id } } }));
    },
  });
  return (
    <FormDialog title={`Try ${credential.name} on a device`} does="Try" failure={trial.error} busy={trial.isPending} onSubmit={() => trial.mutate()} onClose={onClose}>
      <TextField label="Address, name or MAC of the device" required autoFocus value={wanted} onChange={(e) => setWanted(e.target.value.trim())} />
      {trial.data && <Trial trial={trial.data} />}
    </FormDialog>
  );
}

/** What came of trying a credential on a device. */
export function Trial({ trial }: { trial: Schema['CredentialTrial'] }) {
  const says = trial.taken ? 'The device takes it.' : trial.answered ? 'The device’s agent answers, and does not take it.' : 'No agent answers there.';
  return (
    <>
      <Alert severity={trial.taken ? 'success' : 'warning'}>{says}</Alert>
      {trial.facts.slice(0, 12).map((f) => (
        <div key={f.key + f.value}>
          <Typography component="span" variant="body2" color="textSecondary">
            {f.key}{' '}
          </Typography>
          <DeviceText>{visible(f.value)}</DeviceText>
        </div>
      ))}
    </>
  );
}
