import { Button, Divider, ListItemText, Menu, MenuItem, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { DeleteButton, FormDialog } from '../app/Dialogs';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys, useOutdated } from '../app/keys';
import { useMay, useSiteId } from '../app/queries';
import { visible } from '../lib/format';
import { words } from './words';

type Kind = Schema['View']['kind'];

/** What is saved under names at the site. */
export function useViews(site: number) {
  return useQuery({ queryKey: keys.views(site), queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/views', { params: { path: { site } } }))).items });
}

/** Applies filters that are saved, and saves the one that is shown. */
export function ViewsButton({ filter, columns, onApply }: { filter: string; columns: string[]; onApply: (filter: string, columns: string[]) => void }) {
  const site = useSiteId();
  const views = useViews(site);
  const mayAct = useMay('sweep');
  const [anchor, setAnchor] = useState<HTMLElement>();
  const [saving, setSaving] = useState<Kind>();
  const [deleting, setDeleting] = useState(false);
  const close = () => setAnchor(undefined);
  const saved = (views.data ?? []).filter((v) => v.kind === 'view');
  return (
    <>
      <Button startIcon={<Icon of={icons.filterAlt} />} aria-haspopup="menu" onClick={(e) => setAnchor(e.currentTarget)}>
        {words.views}
      </Button>
      <Menu open={anchor !== undefined} anchorEl={anchor} onClose={close}>
        {saved.map((v) => (
          <MenuItem
            key={v.name}
            disabled={v.fault !== undefined}
            onClick={() => {
              onApply(v.filter, v.columns ?? []);
              close();
            }}
          >
            <ListItemText primary={visible(v.name)} secondary={v.fault ? words.brokenView(visible(v.fault)) : String(v.devices)} />
          </MenuItem>
        ))}
        {saved.length === 0 && <MenuItem disabled>{words.noViews}</MenuItem>}
        {mayAct && <Divider />}
        {mayAct &&
          (['view', 'group', 'extract'] as const).map((kind) => (
            <MenuItem
              key={kind}
              onClick={() => {
                setSaving(kind);
                close();
              }}
            >
              {{ view: words.saveView, group: words.saveGroup, extract: words.saveExtract }[kind]}
            </MenuItem>
          ))}
        {mayAct && (
          <MenuItem
            onClick={() => {
              setDeleting(true);
              close();
            }}
          >
            {words.manage}
          </MenuItem>
        )}
      </Menu>
      {saving && <SaveDialog kind={saving} filter={filter} columns={columns} onClose={() => setSaving(undefined)} />}
      {deleting && <ManageDialog onClose={() => setDeleting(false)} />}
    </>
  );
}

function SaveDialog({ kind, filter, columns, onClose }: { kind: Kind; filter: string; columns: string[]; onClose: () => void }) {
  const site = useSiteId();
  const outdated = useOutdated();
  const [name, setName] = useState('');
  const [audience, setAudience] = useState('');
  const save = useMutation({
    mutationFn: () =>
      answer(
        api.PUT('/api/v1/sites/{site}/views/{kind}/{name}', {
          params: { path: { site, kind, name: name.trim() } },
          body: { filter, audience: audience || undefined, columns: kind === 'view' ? columns : undefined },
        }),
      ),
    onSuccess: async () => {
      await outdated('views', 'values');
      onClose();
    },
  });
  return (
    <FormDialog
      title={{ view: words.saveView, group: words.saveGroup, extract: words.saveExtract }[kind]}
      does={words.save}
      failure={save.error}
      busy={save.isPending}
      onSubmit={() => save.mutate()}
      onClose={onClose}
    >
      <TextField autoFocus required size="small" label={words.nameOfView} value={name} onChange={(e) => setName(e.target.value)} />
      {kind === 'extract' && <TextField size="small" label={words.forWhom} value={audience} onChange={(e) => setAudience(e.target.value)} />}
    </FormDialog>
  );
}

function ManageDialog({ onClose }: { onClose: () => void }) {
  const site = useSiteId();
  const views = useViews(site);
  const outdated = useOutdated();
  const remove = useMutation({
    mutationFn: ({ kind, name }: { kind: Kind; name: string }) => answer(api.DELETE('/api/v1/sites/{site}/views/{kind}/{name}', { params: { path: { site, kind, name } } })),
    onSuccess: () => outdated('views', 'values'),
  });
  return (
    <FormDialog title={words.deleteOne} does="OK" failure={remove.error ?? views.error} busy={remove.isPending} onSubmit={onClose} onClose={onClose}>
      {views.data?.length === 0 && <Typography>{words.noViews}</Typography>}
      {views.data?.map((v) => (
        <Stack key={`${v.kind} ${v.name}`} direction="row" sx={{ alignItems: 'center', justifyContent: 'space-between' }}>
          <span>
            {visible(v.name)} ({words.kindsOfView[v.kind]})
            <Typography variant="body2" color="text.secondary" sx={{ overflowWrap: 'anywhere' }}>
              {visible(v.filter)}
            </Typography>
          </span>
          <DeleteButton label={words.deleteNamed(visible(v.name))} says={words.staysAsItIs} onDelete={() => remove.mutate(v)} />
        </Stack>
      ))}
    </FormDialog>
  );
}
