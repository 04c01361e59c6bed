import { Box, Button, Checkbox, Link, MenuItem, Stack, TextField, Typography } from '@mui/material';
import { useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { answer, api, type Schema } from '../api/client';
import { useAddress } from '../app/address';
import { ActDialog, type Meant } from '../acts/ActDialog';
import { Fold, useFold } from '../app/Fold';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys, useOutdated } from '../app/keys';
import { Within } from '../app/Loaded';
import { Empty, Failure, Page, Pairs, Panel } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { SmallTable } from '../app/SmallTable';
import { DeviceLink } from '../devices/DeviceLink';
import { count, day, visible } from '../lib/format';
import { severities, SeverityTag } from './SeverityTag';
import { words } from './words';

type Finding = Schema['Finding'];
type State = Finding['state'];

const states: State[] = ['open', 'accepted', 'closed'];
/** What somebody is about to do to findings. */
interface Acting {
  title: string;
  meant: Meant;
}

/** What is wrong at the site, the worst first. The address holds the filter, so that it can be sent to a colleague. */
export function FindingsPage() {
  const site = useSiteId();
  const [params, set] = useAddress();
  const severity = severities.find((s) => s === params.get('severity'));
  const worst = severities.find((s) => s === params.get('worst'));
  const state = states.find((s) => s === params.get('state')) ?? 'open';
  const rule = params.get('rule') ?? undefined;
  const device = Number(params.get('device')) || undefined;
  const query = { severity, worst, state: [state], rule: rule ? [rule] : undefined, device };
  const findings = useInfiniteQuery({
    queryKey: keys.findings(site, query),
    queryFn: ({ pageParam }) => answer(api.GET('/api/v1/sites/{site}/findings', { params: { path: { site }, query: { ...query, cursor: pageParam, limit: 100 } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
  });
  const [acting, setActing] = useState<Acting>();
  const [round, setRound] = useState(0); // what was chosen is forgotten once something was done to it
  const list = findings.data?.pages.flatMap((page) => page.items) ?? [];
  const csv = new URLSearchParams({ state, ...(severity && { severity }), ...(worst && { worst }), ...(rule && { rule }), ...(device && { device: String(device) }) });
  return (
    <Page
      title={words.findings}
      actions={
        <Stack direction="row" spacing={1} useFlexGap sx={{ flexWrap: 'wrap', alignItems: 'center' }}>
          {rule && (
            <Button variant="outlined" onClick={() => set({ rule: undefined })}>
              {visible(rule)} {words.onlyShowAll}
            </Button>
          )}
          {worst && (
            <Button variant="outlined" onClick={() => set({ worst: undefined })}>
              {words.noneWorse(worst)}
            </Button>
          )}
          {device && (
            <Button variant="outlined" onClick={() => set({ device: undefined })}>
              {words.oneDeviceOnly}
            </Button>
          )}
          <Choice
            label={words.severity}
            value={severity ?? ''}
            none={words.any}
            options={severities.map((s) => [s, words.orWorse(s)])}
            onChoose={(value) => set({ severity: value })}
          />
          <Choice label={words.state} value={state} options={states.map((s) => [s, s])} onChoose={(value) => set({ state: value === 'open' ? undefined : value })} />
          <Button startIcon={<Icon of={icons.download} />} href={`/api/v1/sites/${site}/findings.csv?${csv.toString()}`} download="findings.csv">
            {words.csv}
          </Button>
        </Stack>
      }
    >
      {state === 'open' && !rule && !device && <ByRule site={site} onRule={(name) => set({ rule: name })} />}
      <Within query={findings}>
        {() =>
          list.length > 0 ? (
            <FindingTable
              key={`${JSON.stringify(query)} ${round}`}
              site={site}
              findings={list}
              state={state}
              filter={csv.toString()}
              more={findings.hasNextPage}
              onAct={setActing}
            />
          ) : (
            <Panel>
              <Empty title={words.nothingIsWrong}>{words.findingsAreWhat}</Empty>
            </Panel>
          )
        }
      </Within>
      {acting && (
        <ActDialog
          {...acting}
          kinds={['accept', 'confirm']}
          onClose={() => {
            setActing(undefined);
            setRound(round + 1);
          }}
        />
      )}
      {findings.hasNextPage && (
        <Button variant="outlined" loading={findings.isFetchingNextPage} onClick={() => void findings.fetchNextPage()} sx={{ alignSelf: 'flex-start' }}>
          {words.showMore}
        </Button>
      )}
    </Page>
  );
}

function Choice({ label, value, none, options, onChoose }: { label: string; value: string; none?: string; options: [string, string][]; onChoose: (value: string) => void }) {
  return (
    <TextField
      select
      size="small"
      label={label}
      value={value}
      onChange={(e) => onChoose(e.target.value)}
      sx={{ minWidth: 160 }}
      slotProps={{ inputLabel: { shrink: true }, select: { displayEmpty: true } }}
    >
      {none && <MenuItem value="">{none}</MenuItem>}
      {options.map(([name, says]) => (
        <MenuItem key={name} value={name}>
          {says}
        </MenuItem>
      ))}
    </TextField>
  );
}

/** How many findings there are of each rule, the worst first. */
function ByRule({ site, onRule }: { site: number; onRule: (rule: string) => void }) {
  const counts = useQuery({
    queryKey: keys.findingCounts(site),
    queryFn: async () => (await answer(api.GET('/api/v1/sites/{site}/findings/counts', { params: { path: { site }, query: { state: ['open'] } } }))).items,
  });
  const [shown, more] = useFold(counts.data ?? [], 12);
  if (!counts.data?.length) return null;
  return (
    <Panel title={words.byRule}>
      <Box
        component="ul"
        sx={{ listStyle: 'none', m: 0, p: 0, display: 'grid', gridTemplateColumns: 'repeat(auto-fill, minmax(min(100%, 290px), 1fr))', columnGap: 3, rowGap: 0.75 }}
      >
        {shown.map((c) => (
          <Box component="li" key={`${c.rule} ${c.severity}`} sx={{ display: 'flex', gap: 1, alignItems: 'baseline' }}>
            <SeverityTag severity={c.severity} />
            <Link component="button" type="button" onClick={() => onRule(c.rule)} title={words.only(c.title)} sx={{ textAlign: 'left' }}>
              {visible(c.title)}
            </Link>
            <Typography component="span" variant="body2" color="text.secondary">
              {c.findings}
            </Typography>
          </Box>
        ))}
      </Box>
      {more}
    </Panel>
  );
}

interface TableProps {
  site: number;
  findings: Finding[];
  state: State;
  /** What lets these findings through, and whether it does more than are listed. */
  filter: string;
  more: boolean;
  onAct: (acting: Acting) => void;
}

function FindingTable({ site, findings, state, filter, more, onAct }: TableProps) {
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const outdated = useOutdated();
  const mayAct = useMay('sweep') && state !== 'closed';
  const done = async () => {
    setChosen(new Set());
    await outdated('findings');
  };
  const reopen = useMutation({
    mutationFn: () => answer(api.POST('/api/v1/sites/{site}/findings/reopen', { params: { path: { site } }, body: { findings: [...chosen] } })),
    onSuccess: done,
  });
  const choose = (numbers: number[], on: boolean) => {
    const next = new Set(chosen);
    for (const number of numbers) {
      if (on) next.add(number);
      else next.delete(number);
    }
    setChosen(next);
  };
  const all = findings.every((f) => chosen.has(f.id));
  return (
    <Panel>
      {mayAct && (
        <Stack direction="row" spacing={1} sx={{ mb: 1, alignItems: 'center' }}>
          {state === 'open' ? (
            <>
              <Button
                variant="outlined"
                disabled={chosen.size === 0}
                onClick={() => onAct({ title: words.actOn(count(chosen.size, 'finding')), meant: { findings: [...chosen] } })}
              >
                {chosen.size > 0 ? words.actOn(count(chosen.size, 'finding')) : words.actOnSelected}
              </Button>
              <Button onClick={() => onAct({ title: words.onAllThatIsShown, meant: { filter } })}>{words.actOnAll(more ? '' : ` ${findings.length}`)}</Button>
            </>
          ) : (
            <Button variant="outlined" disabled={chosen.size === 0} loading={reopen.isPending} onClick={() => reopen.mutate()}>
              {words.reopen}
            </Button>
          )}
          <Failure failure={reopen.error} />
        </Stack>
      )}
      <SmallTable
        label={words.findings}
        rows={findings}
        rowKey={(f) => f.id}
        columns={[
          mayAct && {
            head: (
              <Checkbox
                size="small"
                checked={all}
                indeterminate={chosen.size > 0 && !all}
                onChange={(e) =>
                  choose(
                    findings.map((f) => f.id),
                    e.target.checked,
                  )
                }
                slotProps={{ input: { 'aria-label': words.selectAll } }}
              />
            ),
            cell: (f: Finding) => (
              <Checkbox
                size="small"
                checked={chosen.has(f.id)}
                onChange={(e) => choose([f.id], e.target.checked)}
                slotProps={{ input: { 'aria-label': words.select(`${f.title} ${f.id}`) } }}
              />
            ),
          },
          { head: words.severity, line: true, cell: (f) => <SeverityTag severity={f.severity} /> },
          { head: words.finding, cell: (f) => <Said finding={f} /> },
          { head: words.devices, cell: (f) => <Concerned devices={f.devices} /> },
          { head: words.since, line: true, cell: (f) => <span title={f.times > 1 ? words.opened(String(f.times)) : undefined}>{day(f.since)}</span> },
        ]}
      />
    </Panel>
  );
}

/** What a finding says, and behind a fold all of it. */
function Said({ finding: f }: { finding: Finding }) {
  return (
    <>
      <Typography component="div" sx={{ fontWeight: 600 }}>
        {visible(f.title)}
      </Typography>
      <Box sx={{ overflowWrap: 'anywhere' }}>{visible(f.says)}</Box>
      {f.accepted && <Typography variant="body2">{`${words.acceptedBy(visible(f.accepted.by), day(f.accepted.until))}: ${visible(f.accepted.reason)}`}</Typography>}
      {f.closedAt && <Typography variant="body2">{words.closed(day(f.closedAt), words.closedBy[f.closedBy ?? ''] ?? '')}</Typography>}
      <Fold title={words.more}>
        <Pairs
          pairs={[
            [words.because, visible(f.because)],
            [words.toDo, visible(f.do)],
            [words.evidence, f.evidence.map(visible).join('; ')],
          ]}
        />
      </Fold>
    </>
  );
}

function Concerned({ devices }: { devices: Finding['devices'] }) {
  const [shown, more] = useFold(devices, 3);
  return (
    <Stack spacing={0.25} sx={{ alignItems: 'flex-start' }}>
      {shown.map((d) => (
        <span key={d.id}>
          <DeviceLink device={d.id} name={d.name} addr={d.addr} />
          {d.name && d.addr ? ` ${d.addr}` : ''}
        </span>
      ))}
      {more}
    </Stack>
  );
}
