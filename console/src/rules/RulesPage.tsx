import AddIcon from '@mui/icons-material/AddOutlined';
import { Alert, Box, Button, FormControlLabel, Link, Stack, Switch, Table, TableBody, TableCell, TableHead, TableRow, TextField, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { Empty, Failure, Loading, Page, Panel, RemoveButton, Scrolling } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { mono } from '../app/theme';
import { moment, visible } from '../lib/format';

type RuleFile = Schema['RuleFile'];

const example = `rules:
  - rule: garden-tills
    because: "The tills of the shop call their page Drawer."
    when: [{keys: [http.title], words: [drawer]}]
    says: [{attribute: kind, value: till, strength: 12}]
`;

/** Rules that the site adds to those of the program: checked, tried on what is stored, switched on, and taken back. */
export function RulesPage() {
  const site = useSiteId();
  const mayChange = useMay('administer');
  const [editing, setEditing] = useState<{ name: string; text: string }>();
  const files = useQuery({
    queryKey: ['rules', site],
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/rules', { params: { path: { site } } })))?.items ?? [],
  });
  return (
    <Page
      title="Rules"
      actions={
        <Button variant="contained" startIcon={<AddIcon />} onClick={() => setEditing({ name: '', text: example })}>
          Write rules
        </Button>
      }
    >
      <Typography color="textSecondary">
        Rules say what a fact tells of a device. Those of the program hold everywhere; here the site’s own are added. Switching a file on or off reads all stored evidence again, and sends nothing.
      </Typography>
      <Failure failure={files.error} />
      {files.isPending && <Loading />}
      {files.data && (files.data.length > 0 || !editing) && <FileTable files={files.data} mayChange={mayChange} onEdit={setEditing} />}
      {editing && <Editor key={editing.name} site={site} initial={editing} mayChange={mayChange} onClose={() => setEditing(undefined)} />}
    </Page>
  );
}

function FileTable({ files, mayChange, onEdit }: { files: RuleFile[]; mayChange: boolean; onEdit: (file: RuleFile) => void }) {
  const queries = useQueryClient();
  const done = { onSuccess: () => queries.invalidateQueries() };
  const toggle = useMutation({ mutationFn: (f: RuleFile) => answer(api.PUT('/api/v1/rules/{file}/active', { params: { path: { file: f.id } }, body: { active: !f.active } })), ...done });
  const remove = useMutation({ mutationFn: (file: number) => answer(api.DELETE('/api/v1/rules/{file}', { params: { path: { file } } })), ...done });
  if (files.length === 0) {
    return (
      <Panel>
        <Empty title="No rules of the site’s own">The program’s rules are all there is. Where they do not know something of this building, write rules for it.</Empty>
      </Panel>
    );
  }
  return (
    <Panel>
      <Failure failure={toggle.error ?? remove.error} />
      <Scrolling>
        <Table size="small" aria-label="Files of rules">
          <TableHead>
            <TableRow>
              <TableCell>Name</TableCell>
              <TableCell align="right">Rules</TableCell>
              <TableCell>State</TableCell>
              <TableCell>Changed</TableCell>
              <TableCell>Change</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {files.map((f) => (
              <TableRow key={f.id}>
                <TableCell>{visible(f.name)}</TableCell>
                <TableCell align="right">{f.rules}</TableCell>
                <TableCell>
                  <FormControlLabel
                    control={<Switch size="small" checked={f.active} disabled={!mayChange || toggle.isPending} onChange={() => toggle.mutate(f)} slotProps={{ input: { 'aria-label': `${f.name} is on` } }} />}
                    label={f.active ? 'on' : 'off'}
                  />
                </TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  {moment(f.changedAt)} by {f.changedBy}
                </TableCell>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  <Button size="small" onClick={() => onEdit(f)}>
                    Open
                  </Button>
                  {mayChange && <RemoveButton label={`Take ${f.name} away`} onRemove={() => remove.mutate(f.id)} />}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Scrolling>
    </Panel>
  );
}

interface EditorProps {
  site: number;
  initial: { name: string; text: string };
  mayChange: boolean;
  onClose: () => void;
}

function Editor({ site, initial, mayChange, onClose }: EditorProps) {
  const queries = useQueryClient();
  const [name, setName] = useState(initial.name);
  const [text, setText] = useState(initial.text);
  const params = { params: { path: { site } }, body: { name: name || 'rules', text } };
  const trial = useMutation({ mutationFn: () => answer(api.POST('/api/v1/sites/{site}/rules/trial', params)) });
  const save = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/rules', params)),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ['rules'] });
      onClose();
    },
  });
  return (
    <Panel title={initial.name ? `Rules ${visible(initial.name)}` : 'New rules'}>
      <Stack spacing={2}>
        <TextField size="small" label="Name of the file of rules" value={name} disabled={initial.name !== ''} onChange={(e) => setName(e.target.value)} sx={{ maxWidth: 360 }} />
        <TextField label="Rules (YAML)" multiline minRows={8} maxRows={24} value={text} onChange={(e) => setText(e.target.value)} slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: mono, fontSize: 13 } } }} />
        <Stack direction="row" spacing={1}>
          <Button variant="outlined" loading={trial.isPending} onClick={() => trial.mutate()}>
            Try them
          </Button>
          {mayChange && (
            <Button variant="contained" disabled={!name} loading={save.isPending} onClick={() => save.mutate()}>
              Keep, switched off
            </Button>
          )}
          <Button onClick={onClose}>Close</Button>
        </Stack>
        <Failure failure={trial.error ?? save.error} />
        {trial.data && <Trial site={site} trial={trial.data} />}
      </Stack>
    </Panel>
  );
}

function Trial({ site, trial }: { site: number; trial: Schema['RuleTrial'] }) {
  return (
    <>
      <Alert severity={trial.devices > 0 ? 'info' : 'success'}>
        {trial.rules === 1 ? '1 rule' : `${trial.rules} rules`} would change {trial.devices === 1 ? '1 device' : `${trial.devices} devices`}.
      </Alert>
      {trial.changes.length > 0 && (
        <Scrolling>
          <Table size="small" aria-label="What would change">
            <TableHead>
              <TableRow>
                <TableCell>Device</TableCell>
                <TableCell>What</TableCell>
                <TableCell>Now</TableCell>
                <TableCell>Then</TableCell>
              </TableRow>
            </TableHead>
            <TableBody>
              {trial.changes.map((c) => (
                <TableRow key={`${c.device} ${c.attribute}`}>
                  <TableCell>
                    <Link component={RouterLink} to={`/sites/${site}/devices/${c.device}`}>
                      {visible(c.name)}
                    </Link>
                  </TableCell>
                  <TableCell>{c.attribute}</TableCell>
                  <TableCell>{visible(c.before)}</TableCell>
                  <TableCell>
                    <Box component="strong">{visible(c.after)}</Box>
                  </TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Scrolling>
      )}
    </>
  );
}
