import { Alert, Box, Button, FormControlLabel, MenuItem, Stack, Switch, TextField, Typography } from '@mui/material';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys, useOutdated } from '../app/keys';
import { Within } from '../app/Loaded';
import { DeleteButton } from '../app/Dialogs';
import { Empty, Failure, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useMay, useSiteId } from '../app/queries';
import { mono } from '../app/theme';
import { DeviceLink } from '../devices/DeviceLink';
import { moment, visible } from '../lib/format';
import { words } from './words';

type RuleFile = Schema['RuleFile'];

const example = words.rulesRuleGardenTillsBecause;

/** Rules that the site adds to those of the program: checked, tried on what is stored, switched on, and taken back. */
export function RulesPage() {
  const site = useSiteId();
  const mayChange = useMay('administer');
  const [editing, setEditing] = useState<Pick<RuleFile, 'name' | 'text' | 'purpose'>>();
  const files = useQuery({
    queryKey: keys.rules(site),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/rules', { params: { path: { site } } }))).items,
  });
  return (
    <Page
      title={words.rules}
      actions={
        <Button variant="contained" startIcon={<Icon of={icons.add} />} onClick={() => setEditing({ name: '', text: example, purpose: 'identify' })}>
          {words.writeRules}
        </Button>
      }
    >
      <Typography color="textSecondary">{words.rulesSayWhatAFact}</Typography>
      <Within query={files}>{(list) => (list.length > 0 || !editing) && <FileTable files={list} mayChange={mayChange} onEdit={setEditing} />}</Within>
      {editing && <Editor key={editing.name} site={site} initial={editing} mayChange={mayChange} onClose={() => setEditing(undefined)} />}
    </Page>
  );
}

function FileTable({ files, mayChange, onEdit }: { files: RuleFile[]; mayChange: boolean; onEdit: (file: RuleFile) => void }) {
  const queries = useQueryClient();
  const done = { onSuccess: () => queries.invalidateQueries() };
  const toggle = useMutation({
    mutationFn: (f: RuleFile) => answer(api.PUT('/api/v1/rules/{file}/active', { params: { path: { file: f.id } }, body: { active: !f.active } })),
    ...done,
  });
  const remove = useMutation({ mutationFn: (file: number) => answer(api.DELETE('/api/v1/rules/{file}', { params: { path: { file } } })), ...done });
  if (files.length === 0) {
    return (
      <Panel>
        <Empty title={words.noRulesOfTheSites}>{words.theProgramsRulesAreAll}</Empty>
      </Panel>
    );
  }
  return (
    <Panel>
      <Failure failure={toggle.error ?? remove.error} />
      <SmallTable
        label={words.filesOfRules}
        rows={files}
        rowKey={(f) => f.id}
        columns={[
          { head: words.name, cell: (f) => visible(f.name) },
          { head: words.whatTheyAreFor, cell: (f) => words.purposes[f.purpose] },
          { head: words.rules, right: true, cell: (f) => f.rules },
          {
            head: words.state,
            cell: (f) => (
              <FormControlLabel
                control={
                  <Switch
                    size="small"
                    checked={f.active}
                    disabled={!mayChange || toggle.isPending}
                    onChange={() => toggle.mutate(f)}
                    slotProps={{ input: { 'aria-label': words.isOn(f.name) } }}
                  />
                }
                label={f.active ? words.on : words.off}
              />
            ),
          },
          {
            head: words.changed,
            line: true,
            cell: (f) => (
              <>
                {moment(f.changedAt)} {words.by} {f.changedBy}
              </>
            ),
          },
          {
            head: words.change,
            line: true,
            cell: (f) => (
              <>
                <Button size="small" onClick={() => onEdit(f)}>
                  {words.open}
                </Button>
                {mayChange && <DeleteButton label={words.deleteIt(f.name)} says={words.theFileIsDeletedAnd} onDelete={() => remove.mutate(f.id)} />}
              </>
            ),
          },
        ]}
      />
    </Panel>
  );
}

interface EditorProps {
  site: number;
  initial: Pick<RuleFile, 'name' | 'text' | 'purpose'>;
  mayChange: boolean;
  onClose: () => void;
}

function Editor({ site, initial, mayChange, onClose }: EditorProps) {
  const outdated = useOutdated();
  const [name, setName] = useState(initial.name);
  const [text, setText] = useState(initial.text);
  const [purpose, setPurpose] = useState(initial.purpose);
  const params = { params: { path: { site } }, body: { name: name || 'rules', text, purpose } };
  const trial = useMutation({ mutationFn: () => answer(api.POST('/api/v1/sites/{site}/rules/trial', params)) });
  const save = useMutation({
    mutationFn: () => answer(api.PUT('/api/v1/sites/{site}/rules', params)),
    onSuccess: async () => {
      await outdated('rules');
      onClose();
    },
  });
  return (
    <Panel title={initial.name ? words.rulesToo(visible(initial.name)) : words.newRules}>
      <Stack spacing={2}>
        <TextField size="small" label={words.nameOfTheFileOf} value={name} disabled={initial.name !== ''} onChange={(e) => setName(e.target.value)} sx={{ maxWidth: 360 }} />
        <TextField
          select
          size="small"
          label={words.whatTheyAreFor}
          value={purpose}
          disabled={initial.name !== ''}
          onChange={(e) => setPurpose(e.target.value as RuleFile['purpose'])}
          sx={{ maxWidth: 360 }}
        >
          <MenuItem value="identify">{words.purposes.identify}</MenuItem>
          <MenuItem value="judge">{words.purposes.judge}</MenuItem>
        </TextField>
        <TextField
          label={words.rulesYaml}
          multiline
          minRows={8}
          maxRows={24}
          value={text}
          onChange={(e) => setText(e.target.value)}
          slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: mono, fontSize: 13 } } }}
        />
        <Stack direction="row" spacing={1}>
          <Button variant="outlined" loading={trial.isPending} onClick={() => trial.mutate()}>
            {words.tryThem}
          </Button>
          {mayChange && (
            <Button variant="contained" disabled={!name} loading={save.isPending} onClick={() => save.mutate()}>
              {words.saveDisabled}
            </Button>
          )}
          <Button onClick={onClose}>{words.close}</Button>
        </Stack>
        <Failure failure={trial.error ?? save.error} />
        {trial.data && <Trial trial={trial.data} />}
      </Stack>
    </Panel>
  );
}

function Trial({ trial }: { trial: Schema['RuleTrial'] }) {
  return (
    <>
      <Alert severity={trial.devices > 0 ? 'info' : 'success'}>
        {trial.rules === 1 ? words.n1Rule : words.rulesTooToo(trial.rules)} {trial.findings ? words.wouldRemark : words.wouldChange}{' '}
        {trial.devices === 1 ? words.n1Device : words.devices(trial.devices)}.
      </Alert>
      {trial.findings && (
        <SmallTable
          label={words.whatWouldBeRemarked}
          rows={trial.findings}
          rowKey={(f) => `${f.device} ${f.rule}`}
          columns={[
            { head: words.device, cell: (f) => <DeviceLink device={f.device} name={f.name} /> },
            { head: words.rule, cell: (f) => visible(f.rule) },
            { head: words.severity, cell: (f) => f.severity },
          ]}
        />
      )}
      {trial.changes.length > 0 && (
        <SmallTable
          label={words.whatWouldChange}
          rows={trial.changes}
          rowKey={(c) => `${c.device} ${c.attribute}`}
          columns={[
            {
              head: words.device,
              cell: (c) => <DeviceLink device={c.device} name={c.name} />,
            },
            { head: words.what, cell: (c) => c.attribute },
            { head: words.now, cell: (c) => visible(c.before) },
            { head: words.then, cell: (c) => <Box component="strong">{visible(c.after)}</Box> },
          ]}
        />
      )}
    </>
  );
}
