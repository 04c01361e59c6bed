import { Button, Link, MenuItem, Stack, TextField, ToggleButton, ToggleButtonGroup, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { useAddress } from '../app/address';
import { Within } from '../app/Loaded';
import { Empty, Page, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { useSiteId } from '../app/queries';
import { DeviceLink } from '../devices/DeviceLink';
import { kindLabel } from '../devices/kinds';
import { count, moment, visible } from '../lib/format';
import { SpreadPlot } from './SpreadPlot';
import { groups, milliseconds } from './spread';
import { words } from './words';

/** How many devices the plot and the table show at most. */
const manyDevices = 2000;
/** How many devices the table shows before it is asked for more. */
const fewRows = 25;

/** How long devices take over their answers in one protocol, like devices side by side. The address holds what is chosen. */
export function ResponseTimesPage() {
  const site = useSiteId();
  const [params, set] = useAddress();
  const protocol = params.get('protocol') ?? undefined;
  const by = params.get('by') === 'model' ? 'model' : 'kind';
  const order = params.get('order') === 'fastest' ? 'fastest' : 'slowest';
  const sweep = Number(params.get('sweep')) || undefined;
  const only = params.get('only') ?? undefined;
  const filter = { protocol, sweep, order, kind: only && by === 'kind' ? [only] : undefined, model: only && by === 'model' ? [only] : undefined } as const;
  const times = useQuery({
    queryKey: keys.times(site, filter),
    queryFn: () => answer(api.GET('/api/v1/sites/{site}/response-times', { params: { path: { site }, query: { ...filter, limit: manyDevices } } })),
  });
  const t = times.data;
  return (
    <Page
      title={words.responseTimes}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          {t && t.protocols.length > 0 && (
            <TextField select size="small" label={words.protocol} value={t.protocol ?? ''} onChange={(e) => set({ protocol: e.target.value })} sx={{ minWidth: 180 }}>
              {t.protocols.map((p) => (
                <MenuItem key={p.protocol} value={p.protocol}>
                  {visible(p.protocol)} ({p.devices})
                </MenuItem>
              ))}
            </TextField>
          )}
          <ToggleButtonGroup
            exclusive
            size="small"
            value={by}
            onChange={(_, value: string | null) => value && set({ by: value, only: undefined })}
            aria-label={words.compareDevices}
          >
            <ToggleButton value="kind">{words.byKind}</ToggleButton>
            <ToggleButton value="model">{words.byModel}</ToggleButton>
          </ToggleButtonGroup>
          <ToggleButtonGroup exclusive size="small" value={order} onChange={(_, value: string | null) => value && set({ order: value })} aria-label={words.orderOfTheTable}>
            <ToggleButton value="slowest">{words.slowestFirst}</ToggleButton>
            <ToggleButton value="fastest">{words.fastestFirst}</ToggleButton>
          </ToggleButtonGroup>
          {only && (
            <Button variant="outlined" onClick={() => set({ only: undefined })}>
              {visible(by === 'kind' ? kindLabel(only) : only)} {words.onlyShowAll}
            </Button>
          )}
          <Button startIcon={<Icon of={icons.download} />} href={csvAddress(site, filter)} download="response-times.csv">
            {words.csv}
          </Button>
        </Stack>
      }
    >
      <Within query={times}>
        {(t) =>
          t.devices.length > 0 ? (
            <>
              <Typography color="textSecondary">
                {count(t.total, 'device')} {words.answeredBy} {visible(t.protocol ?? '')} {words.inIt}{' '}
                <Link component={RouterLink} to={`/sites/${site}/sweeps/${t.sweep}`}>
                  {words.sweep} {t.sweep}
                </Link>{' '}
                ({moment(t.began)}
                {words.seenFrom} {visible(t.vantage || words.anUnknownPlace)}
                {words.aTimeRunsFromWhen}
              </Typography>
              <Panel title={by === 'kind' ? words.byKindToo : words.byModelToo}>
                <SpreadPlot site={site} groups={groups(t.devices, by)} />
              </Panel>
              <TimesTable
                times={t}
                by={by}
                rows={Number(params.get('rows')) || fewRows}
                onMore={() => set({ rows: String((Number(params.get('rows')) || fewRows) + 100) })}
                onOnly={(value) => set({ only: value })}
              />
            </>
          ) : (
            <Panel>
              <Empty title={words.noAnswersHaveBeenTimed}>{words.aSweepTimesWhatIt}</Empty>
            </Panel>
          )
        }
      </Within>
    </Page>
  );
}

/** Where what is shown is to be had as CSV. */
function csvAddress(site: number, filter: { protocol?: string; sweep?: number; order: string; kind?: string[]; model?: string[] }) {
  const params = new URLSearchParams({ order: filter.order });
  if (filter.protocol) params.set('protocol', filter.protocol);
  if (filter.sweep) params.set('sweep', String(filter.sweep));
  for (const kind of filter.kind ?? []) params.append('kind', kind);
  for (const model of filter.model ?? []) params.append('model', model);
  return `/api/v1/sites/${site}/response-times.csv?${params.toString()}`;
}

interface TableProps {
  times: Schema['ResponseTimes'];
  by: 'kind' | 'model';
  rows: number;
  onMore: () => void;
  onOnly: (value: string) => void;
}

function TimesTable({ times, by, rows, onMore, onOnly }: TableProps) {
  return (
    <>
      <Panel>
        <SmallTable
          label={words.responseTimes}
          rows={times.devices.slice(0, rows)}
          rowKey={(d) => d.device}
          columns={[
            {
              head: words.device,
              cell: (d) => <DeviceLink device={d.device} name={d.name} addr={d.addr} />,
            },
            { head: words.address, cell: (d) => d.addr },
            { head: words.kind, cell: (d) => (by === 'kind' ? <Only text={kindLabel(d.kind)} onClick={() => onOnly(d.kind)} /> : kindLabel(d.kind)) },
            { head: words.model, cell: (d) => (by === 'model' && d.model ? <Only text={visible(d.model)} onClick={() => onOnly(d.model ?? '')} /> : visible(d.model ?? '')) },
            { head: words.median, right: true, cell: (d) => milliseconds(d.median) },
            { head: words.n95Within, right: true, cell: (d) => milliseconds(d.most) },
            { head: words.longest, right: true, cell: (d) => milliseconds(d.worst) },
            { head: words.answers, right: true, cell: (d) => d.answers },
            { head: words.lost, right: true, cell: (d) => d.lost || '' },
          ]}
        />
      </Panel>
      {times.devices.length > rows && (
        <Button variant="outlined" onClick={onMore} sx={{ alignSelf: 'flex-start' }}>
          {words.showMoreOf} {count(times.total, 'device')}
        </Button>
      )}
    </>
  );
}

/** A value that narrows the page to devices like this one. */
function Only({ text, onClick }: { text: string; onClick: () => void }) {
  return (
    <Link component="button" type="button" onClick={onClick} title={words.onlyToo(text)} sx={{ textAlign: 'left' }}>
      {text}
    </Link>
  );
}
