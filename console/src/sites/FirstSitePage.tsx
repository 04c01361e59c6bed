import { Button, Stack, TextField, Typography } from '@mui/material';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { useNavigate } from 'react-router';

import { answer, api } from '../api/client';
import { Failure, Page, Panel } from '../app/parts';

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
      await queries.invalidateQueries({ queryKey: ['sites'] });
      await navigate(`/sites/${site.id}`);
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter.mutate();
  };
  return (
    <Page title="Enter a site">
      <Panel>
        <Stack component="form" spacing={2.5} onSubmit={submit} sx={{ maxWidth: 560 }}>
          <Typography color="textSecondary">
            A site is a building or facility. It is swept in its own networks and nowhere else, so enter only what you have leave to look through.
          </Typography>
          <TextField label="Name of the site" required value={name} onChange={(e) => setName(e.target.value)} />
          <TextField
            label="Networks"
            required
            multiline
            minRows={2}
            value={networks}
            onChange={(e) => setNetworks(e.target.value)}
            helperText="CIDR prefixes, such as 10.40.1.0/24, one a line"
          />
          <Failure failure={enter.error} />
          <Button type="submit" variant="contained" loading={enter.isPending} sx={{ alignSelf: 'start' }}>
            Enter the site
          </Button>
        </Stack>
      </Panel>
    </Page>
  );
}
