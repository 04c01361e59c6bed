import { Alert, Button, MenuItem, TextField, Typography } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys, useOutdated } from '../app/keys';
import { Within } from '../app/Loaded';
import { DeleteButton, FormDialog } from '../app/Dialogs';
import { DeviceText, Empty, Failure, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useMay, useSiteId } from '../app/queries';
import { moment, visible } from '../lib/format';
import { words } from './words';

type Credential = Schema['Credential'];
type NewCredential = Schema['NewCredential'];

/** The site's credentials, loaded again where they change. */
function useCredentials(site: number) {
  return useQuery({
    queryKey: keys.credentials(site),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/credentials', { params: { path: { site } } }))).items,
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
      title={words.credentials}
      actions={
        mayChange && (
          <Button variant="contained" startIcon={<Icon of={icons.add} />} onClick={() => setAdding(true)}>
            {words.addACredential}
          </Button>
        )
      }
    >
      <Typography color="textSecondary">{words.snmpAgentsTellTheMost}</Typography>
      <Within query={list}>{(known) => <CredentialTable list={known} mayChange={mayChange} onTry={setTrying} />}</Within>
      {adding && <AddDialog site={site} onClose={() => setAdding(false)} />}
      {trying && <TryDialog site={site} credential={trying} onClose={() => setTrying(undefined)} />}
    </Page>
  );
}

function CredentialTable({ list, mayChange, onTry }: { list: Credential[]; mayChange: boolean; onTry: (c: Credential) => void }) {
  const outdated = useOutdated();
  const mayTry = useMay('sweep');
  const remove = useMutation({
    mutationFn: (credential: number) => answer(api.DELETE('/api/v1/credentials/{credential}', { params: { path: { credential } } })),
    onSuccess: () => outdated('credentials'),
  });
  if (list.length === 0) {
    return (
      <Panel>
        <Empty title={words.noCredentialYet}>{words.sweepsTryTheDefaultCommunity}</Empty>
      </Panel>
    );
  }
  return (
    <Panel>
      <Failure failure={remove.error} />
      <SmallTable
        label={words.credentials}
        rows={list}
        rowKey={(c) => c.id}
        columns={[
          { head: words.name, cell: (c) => c.name },
          { head: words.snmp, cell: (c) => c.version },
          { head: words.user, cell: (c) => c.user },
          { head: words.authentication, cell: (c) => c.authentication },
          { head: words.privacy, cell: (c) => c.privacy },
          { head: words.added, line: true, cell: (c) => moment(c.createdAt) },
          {
            head: words.change,
            line: true,
            cell: (c) => (
              <>
                {mayTry && (
                  <Button size="small" onClick={() => onTry(c)}>
                    {words.tryItOnADevice}
                  </Button>
                )}
                {mayChange && <DeleteButton label={words.deleteIt(c.name)} says={words.itsSecretsAreDeletedWith} onDelete={() => remove.mutate(c.id)} />}
              </>
            ),
          },
        ]}
      />
    </Panel>
  );
}

const authentications = ['MD5', 'SHA', 'SHA-224', 'SHA-256', 'SHA-384', 'SHA-512'] as const;
const privacies = ['DES', 'AES', 'AES-192', 'AES-256'] as const;

function AddDialog({ site, onClose }: { site: number; onClose: () => void }) {
  const outdated = useOutdated();
  const [c, setC] = useState<NewCredential>({ name: '', version: '2c' });
  const set = (part: Partial<NewCredential>) => setC({ ...c, ...part });
  const three = c.version === '3';
  const add = useMutation({
    mutationFn: () =>
      answer(
        api.POST('/api/v1/sites/{site}/credentials', {
          params: { path: { site } },
          body: three
            ? {
                name: c.name,
                version: c.version,
                user: c.user,
                authentication: c.authentication,
                authenticationKey: c.authenticationKey,
                privacy: c.privacy,
                privacyKey: c.privacyKey,
              }
            : { name: c.name, version: c.version, community: c.community },
        }),
      ),
    onSuccess: async () => {
      await outdated('credentials');
      onClose();
    },
  });
  return (
    <FormDialog title={words.addACredential} does={words.add} failure={add.error} busy={add.isPending} onSubmit={() => add.mutate()} onClose={onClose}>
      <TextField label={words.nameOfTheCredential} required autoFocus value={c.name} onChange={(e) => set({ name: e.target.value })} helperText={words.whatPeopleCallItIt} />
      <TextField select label={words.versionOfSnmp} value={c.version} onChange={(e) => set({ version: e.target.value as NewCredential['version'] })}>
        {(['1', '2c', '3'] as const).map((v) => (
          <MenuItem key={v} value={v}>
            {v}
          </MenuItem>
        ))}
      </TextField>
      {!three && <SecretField label={words.community} required value={c.community} onText={(community) => set({ community })} />}
      {three && (
        <>
          <TextField label={words.userOfTheAgent} required value={c.user ?? ''} onChange={(e) => set({ user: e.target.value })} />
          <TextField
            select
            label={words.authentication}
            value={c.authentication ?? ''}
            onChange={(e) => set({ authentication: (e.target.value || undefined) as NewCredential['authentication'] })}
          >
            <MenuItem value="">{words.none}</MenuItem>
            {authentications.map((a) => (
              <MenuItem key={a} value={a}>
                {a}
              </MenuItem>
            ))}
          </TextField>
          {c.authentication && <SecretField label={words.authenticationKey} required value={c.authenticationKey} onText={(authenticationKey) => set({ authenticationKey })} />}
          <TextField select label={words.privacy} value={c.privacy ?? ''} onChange={(e) => set({ privacy: (e.target.value || undefined) as NewCredential['privacy'] })}>
            <MenuItem value="">{words.none}</MenuItem>
            {privacies.map((p) => (
              <MenuItem key={p} value={p}>
                {p}
              </MenuItem>
            ))}
          </TextField>
          {c.privacy && <SecretField label={words.privacyKey} required value={c.privacyKey} onText={(privacyKey) => set({ privacyKey })} />}
        </>
      )}
    </FormDialog>
  );
}

/** A field for a secret: what is typed is not shown, and the browser does not keep it. */
function SecretField({ label, required, value, onText }: { label: string; required?: boolean; value: string | undefined; onText: (text: string) => void }) {
  return (
    <TextField
      label={label}
      type="password"
      autoComplete="new-password"
      required={required}
      value={value ?? ''}
      onChange={(e) => onText(e.target.value)}
      helperText={words.itCannotBeShownAgain}
    />
  );
}

function TryDialog({ site, credential, onClose }: { site: number; credential: Credential; onClose: () => void }) {
  const [wanted, setWanted] = useState('');
  const trial = useMutation({
    mutationFn: async () => {
      const found = await answer(api.GET('/api/v1/sites/{site}/devices', { params: { path: { site }, query: { text: wanted, limit: 100 } } }));
      const device = found.items.find((d) => d.addresses.includes(wanted) || d.name === wanted || d.mac === wanted);
      if (!device) throw new Error(words.noDeviceHasTheAddress(wanted));
      return answer(api.POST('/api/v1/devices/{device}/credentials/{credential}', { params: { path: { device: device.id, credential: credential.id } } }));
    },
  });
  return (
    <FormDialog title={words.tryOnADevice(credential.name)} does={words.try} failure={trial.error} busy={trial.isPending} onSubmit={() => trial.mutate()} onClose={onClose}>
      <TextField label={words.addressNameOrMacOf} required autoFocus value={wanted} onChange={(e) => setWanted(e.target.value.trim())} />
      {trial.data && <Trial trial={trial.data} />}
    </FormDialog>
  );
}

/** What came of trying a credential on a device. */
export function Trial({ trial }: { trial: Schema['CredentialTrial'] }) {
  const says = trial.taken ? words.theDeviceAcceptsIt : trial.answered ? words.theDevicesAgentRefusesIt : words.noAgentAnswersThere;
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
