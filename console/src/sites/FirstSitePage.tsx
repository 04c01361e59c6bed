import { Button, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type SubmitEvent } from 'react';
import { useNavigate } from 'react-router';

import { answer, api } from '../api/client';
import { keys } from '../app/keys';
import { Failure, Page, Panel } from '../app/parts';
import { words } from './words';

/** Enters a site: its name and the networks it may be swept in. */
export function FirstSitePage() {
  const [name, setName] = useState('');
  const [networks, setNetworks] = useState('');
  const queries = useQueryClient();
  const navigate = useNavigate();
  const enter = useMutation({
    mutationFn: () => {
      const subnets = networks.split(/[\s,;]+/).filter(Boolean);
      return answer(api.POST('/api/v1/sites', { body: { name, networks: subnets.map((subnet) => ({ name: '', subnet })) } }));
    },
    onSuccess: async (site) => {
      await queries.invalidateQueries({ queryKey: keys.sites });
      await navigate(`/sites/${site.id}`);
    },
  });
  const submit = (e: SubmitEvent) => {
    e.preventDefault();
    enter.mutate();
  };
  return (
    <Page title={words.addASite}>
      <Panel>
        <Stack component="form" spacing={2.5} onSubmit={submit} sx={{ maxWidth: 560 }}>
          <Typography color="textSecondary">{words.aSiteIsABuilding}</Typography>
          <TextField label={words.nameOfTheSite} required value={name} onChange={(e) => setName(e.target.value)} />
          <TextField label={words.networks} required multiline minRows={2} value={networks} onChange={(e) => setNetworks(e.target.value)} helperText={words.cidrPrefixesSuchAs10} />
          <Failure failure={enter.error} />
          <Button type="submit" variant="contained" loading={enter.isPending} sx={{ alignSelf: 'start' }}>
            {words.addTheSite}
          </Button>
        </Stack>
      </Panel>
    </Page>
  );
}
