import { Box, Button, Link, MenuItem, Stack, TextField, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { useRef, useState } from 'react';

import { useViews } from '../acts/ViewsButton';
import { Problem } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { Within } from '../app/Loaded';
import { Failure, Page, Panel } from '../app/parts';
import { useSiteId } from '../app/queries';
import { SmallTable } from '../app/SmallTable';
import { visible } from '../lib/format';
import { words } from './words';

interface Choice {
  at: string;
  since: string;
  paper: 'A4' | 'Letter';
}

const forms = ['xlsx', 'csv', 'pdf', 'html', 'json'] as const;

/** Makes the report of the site, shows it as it prints, and hands extracts over. */
export function ReportPage() {
  const site = useSiteId();
  const [choice, setChoice] = useState<Choice>({ at: '', since: '', paper: 'A4' });
  const frame = useRef<HTMLIFrameElement>(null);
  const address = (form: string) => {
    const query = new URLSearchParams({ form, paper: choice.paper, ...(choice.at && { at: choice.at }), ...(choice.since && { since: choice.since }) });
    return `/api/v1/sites/${site}/report?${query.toString()}`;
  };
  const page = useQuery({ queryKey: keys.report(site, choice), queryFn: () => fetchText(address('html')) });
  return (
    <Page
      title={words.report}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          <Day label={words.at} value={choice.at} onDay={(at) => setChoice({ ...choice, at })} />
          <Day label={words.since} value={choice.since} onDay={(since) => setChoice({ ...choice, since })} />
          <TextField
            select
            size="small"
            label={words.paper}
            value={choice.paper}
            onChange={(e) => setChoice({ ...choice, paper: e.target.value === 'Letter' ? 'Letter' : 'A4' })}
            sx={{ minWidth: 100 }}
          >
            <MenuItem value="A4">{words.a4}</MenuItem>
            <MenuItem value="Letter">{words.letter}</MenuItem>
          </TextField>
          <Button variant="contained" disabled={!page.data} onClick={() => frame.current?.contentWindow?.print()}>
            {words.print}
          </Button>
          {(['pdf', 'html', 'json'] as const).map((form) => (
            <Button key={form} startIcon={<Icon of={icons.download} />} href={address(form)} download={`report.${form}`}>
              {words[form]}
            </Button>
          ))}
        </Stack>
      }
    >
      <Extracts site={site} />
      <Panel title={words.preview}>
        <Failure failure={page.error} />
        {page.data && (
          <Box
            component="iframe"
            ref={frame}
            title={words.preview}
            srcDoc={page.data}
            sandbox="allow-same-origin allow-modals"
            sx={{ width: '100%', height: '75vh', border: 1, borderColor: 'divider', bgcolor: '#fff' }}
          />
        )}
      </Panel>
    </Page>
  );
}

/** Asks the service for a page, which is no JSON. */
async function fetchText(address: string): Promise<string> {
  const response = await fetch(address, { credentials: 'same-origin' });
  if (response.ok) return response.text();
  const problem = (await response.json().catch(() => ({}))) as { detail?: string };
  throw new Problem(response.status, problem.detail ?? response.statusText, []);
}

function Day({ label, value, onDay }: { label: string; value: string; onDay: (day: string) => void }) {
  return <TextField type="date" size="small" label={label} value={value} onChange={(e) => onDay(e.target.value)} slotProps={{ inputLabel: { shrink: true } }} />;
}

/** The extracts that are saved, each as a file. */
function Extracts({ site }: { site: number }) {
  const views = useViews(site);
  return (
    <Panel title={words.extracts}>
      <Within query={views}>
        {(all) => {
          const extracts = all.filter((v) => v.kind === 'extract');
          if (extracts.length === 0) return <Typography color="text.secondary">{words.noExtracts}</Typography>;
          return (
            <SmallTable
              label={words.extracts}
              rows={extracts}
              rowKey={(v) => v.name}
              columns={[
                { head: words.name, cell: (v) => visible(v.name) },
                { head: words.forWhom, cell: (v) => visible(v.audience ?? '') },
                { head: words.devices, right: true, cell: (v) => v.devices },
                {
                  head: words.files,
                  line: true,
                  cell: (v) =>
                    v.fault ? (
                      visible(v.fault)
                    ) : (
                      <Stack direction="row" spacing={1.5}>
                        {forms.map((form) => (
                          <Link key={form} href={`/api/v1/sites/${site}/extract?${new URLSearchParams({ name: v.name, form }).toString()}`} download={`extract.${form}`}>
                            {form.toUpperCase()}
                          </Link>
                        ))}
                      </Stack>
                    ),
                },
              ]}
            />
          );
        }}
      </Within>
    </Panel>
  );
}
