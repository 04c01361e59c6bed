import { Button, Checkbox, Stack } from '@mui/material';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { ActDialog, ActsDialog } from '../acts/ActDialog';
import { answer, api, type Schema } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { keys } from '../app/keys';
import { Within } from '../app/Loaded';
import { Empty, Page, Panel } from '../app/parts';
import { useMay, useSiteId } from '../app/queries';
import { SmallTable } from '../app/SmallTable';
import { DeviceLink } from '../devices/DeviceLink';
import { count, odds, visible } from '../lib/format';
import { words } from './words';

type Line = Schema['DriftLine'];
type Side = 'take' | 'keep-register';
const keyOf = (l: Line) => `${l.device} ${l.attribute}`;

/** Where the register and what was observed differ; for each, one side is chosen. */
export function DriftPage() {
  const site = useSiteId();
  const [acts, setActs] = useState(false);
  const [acting, setActing] = useState<{ side: Side; lines: Line[] }>();
  const [acted, setActed] = useState(0); // how often; nothing is selected any more then
  const drift = useInfiniteQuery({
    queryKey: keys.drift(site),
    queryFn: ({ pageParam }) => answer(api.GET('/api/v1/sites/{site}/drift', { params: { path: { site }, query: { cursor: pageParam, limit: 200 } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next,
  });
  const lines = drift.data?.pages.flatMap((page) => page.items) ?? [];
  return (
    <Page
      title={words.drift}
      actions={
        <Button startIcon={<Icon of={icons.undo} />} onClick={() => setActs(true)}>
          {words.whatWasDone}
        </Button>
      }
    >
      <Within query={drift}>
        {() =>
          lines.length > 0 ? (
            <Lines key={acted} lines={lines} onSide={(side, chosen) => setActing({ side, lines: chosen })} />
          ) : (
            <Panel>
              <Empty title={words.noDrift}>{words.driftIsWhat}</Empty>
            </Panel>
          )
        }
      </Within>
      {drift.hasNextPage && (
        <Button variant="outlined" loading={drift.isFetchingNextPage} onClick={() => void drift.fetchNextPage()} sx={{ alignSelf: 'flex-start' }}>
          {words.showMore}
        </Button>
      )}
      {acts && <ActsDialog onClose={() => setActs(false)} />}
      {acting && (
        <ActDialog
          title={acting.side === 'take' ? words.takeTitle : words.keepTitle}
          kinds={[acting.side]}
          meant={{ lines: acting.lines.map((l) => ({ device: l.device, attribute: l.attribute })) }}
          onClose={() => {
            setActing(undefined);
            setActed(acted + 1);
          }}
        />
      )}
    </Page>
  );
}

function Lines({ lines, onSide }: { lines: Line[]; onSide: (side: Side, lines: Line[]) => void }) {
  const mayAct = useMay('sweep');
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const selected = lines.filter((l) => chosen.has(keyOf(l)));
  const choose = (of: Line[], on: boolean) => {
    const next = new Set(chosen);
    for (const l of of) {
      if (on) next.add(keyOf(l));
      else next.delete(keyOf(l));
    }
    setChosen(next);
  };
  const n = selected.length > 0 ? count(selected.length, 'line') : '';
  return (
    <Panel>
      {mayAct && (
        <Stack direction="row" spacing={1} useFlexGap sx={{ mb: 1, flexWrap: 'wrap', alignItems: 'center' }}>
          <Button variant="outlined" disabled={selected.length === 0} onClick={() => onSide('take', selected)}>
            {words.take(n)}
          </Button>
          <Button variant="outlined" disabled={selected.length === 0} onClick={() => onSide('keep-register', selected)}>
            {words.keep(n)}
          </Button>
        </Stack>
      )}
      <SmallTable
        label={words.drift}
        rows={lines}
        rowKey={keyOf}
        columns={[
          mayAct && {
            head: (
              <Checkbox
                size="small"
                checked={selected.length === lines.length}
                indeterminate={selected.length > 0 && selected.length < lines.length}
                onChange={(e) => choose(lines, e.target.checked)}
                slotProps={{ input: { 'aria-label': words.selectAll } }}
              />
            ),
            cell: (l: Line) => (
              <Checkbox
                size="small"
                checked={chosen.has(keyOf(l))}
                onChange={(e) => choose([l], e.target.checked)}
                slotProps={{ input: { 'aria-label': words.select(`${l.name ?? ''} ${l.attribute}`) } }}
              />
            ),
          },
          { head: words.device, cell: (l) => <DeviceLink device={l.device} name={l.name} addr={l.addr} /> },
          { head: words.attribute, line: true, cell: (l) => l.attribute },
          { head: words.registerSays, cell: (l) => visible(l.expected) },
          { head: words.observed, cell: (l) => visible(l.observed) },
          { head: words.confidence, line: true, wide: true, cell: (l) => (l.certain ? words.certain : odds(l.strength)) },
          { head: words.state, line: true, cell: (l) => (l.confirmed ? words.confirmed : (l.state ?? words.none)) },
        ]}
      />
    </Panel>
  );
}
