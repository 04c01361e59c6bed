import { Alert } from '@mui/material';
import { Suspense } from 'react';
import { Link } from 'react-router';

import type { Schema } from '../api/client';
import { later } from '../app/later';
import { Loaded } from '../app/Loaded';
import { Empty, Page, Panel } from '../app/parts';
import { useOverview, useSiteId } from '../app/queries';
import { usePainted } from '../app/usePainted';
import { number, visible } from '../lib/format';
import { StartSweepButton } from '../sweeps/StartSweep';
import { words } from './words';

const Panels = later(() => import('./Panels').then((m) => m.Panels));

type Overview = Schema['Overview'];

/** What is at the site, what nobody manages, what needs a look, and the last sweep. */
export function OverviewPage() {
  const site = useSiteId();
  const overview = useOverview(site);
  const painted = usePainted();
  return (
    <Loaded title={words.overview} query={overview}>
      {(o) => (
        <Page title={o.site.name} actions={painted && <StartSweepButton site={o.site} />}>
          {o.notices.map((text) => (
            <Alert key={text} severity="warning">
              {visible(text)}
            </Alert>
          ))}
          {o.lastSweep ? <Figures site={site} o={o} painted={painted} /> : <NothingYet o={o} />}
        </Page>
      )}
    </Loaded>
  );
}

function NothingYet({ o }: { o: Overview }) {
  return (
    <Panel>
      <Empty title={words.nothingIsKnownYet}>
        {words.startASweepToSee} {o.site.networks.map((n) => n.subnet).join(', ') || words.theNetworksOfThisSite}
        {words.andImportTheRegisterTo}
      </Empty>
    </Panel>
  );
}

function Figures({ site, o, painted }: { site: number; o: Overview; painted: boolean }) {
  const devices = (query: string) => `/sites/${site}/devices?${query}`;
  return (
    <>
      <div className="figures">
        <Figure value={o.counts.unmanaged} label={words.nobodyManages} to={devices('standing=unmanaged')} strong />
        <Figure value={o.counts.managed} label={words.managed} to={devices('standing=managed')} />
        <Figure value={o.counts.missing} label={words.inTheRegisterMissing} to={devices('standing=missing')} />
        <Figure value={o.seen} label={words.seen} to={devices('presence=seen')} />
      </div>
      {painted && (
        <Suspense fallback={null}>
          <Panels site={site} o={o} />
        </Suspense>
      )}
    </>
  );
}

function Figure({ value, label, to, strong }: { value: number; label: string; to: string; strong?: boolean }) {
  return (
    <Link className={strong && value > 0 ? 'figure strong' : 'figure'} to={to}>
      <p className="value">{number(value)}</p>
      <p>{label}</p>
    </Link>
  );
}
