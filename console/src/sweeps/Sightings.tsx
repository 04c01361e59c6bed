import { memo, useMemo } from 'react';
import { Link } from 'react-router';

import { answer, api, type Sighting, type Sweep } from '../api/client';
import { keys } from '../app/keys';
import { LongTable, type LongColumn } from '../app/LongTable';
import { DeviceText, Empty, Failure } from '../app/parts';
import { useLongList } from '../app/useLongList';
import { KindCell } from '../devices/kinds';
import { visible } from '../lib/format';
import { words } from './words';

/** How often what is on screen is loaded again while a sweep runs, in milliseconds. */
const readEvery = 2000;

/** What a sweep has seen, while it runs and afterwards, by address. */
export const Sightings = memo(function Sightings({ sweep }: { sweep: Sweep }) {
  const columns = useMemo(() => columnsOf(sweep.site), [sweep.site]);
  const running = sweep.state === 'running';
  const list = useLongList(
    keys.sightings(sweep.id, running),
    (skip, limit, signal) => answer(api.GET('/api/v1/sweeps/{sweep}/sightings', { params: { path: { sweep: sweep.id }, query: { skip, limit } }, signal })),
    0,
    running && readEvery,
  );
  return (
    <>
      <Failure failure={list.error} />
      <LongTable
        label={words.whatTheSweepSaw}
        list={list}
        columns={columns}
        none={running ? <Empty title={words.nothingHasAnsweredYet} /> : <Empty title={words.nothingAnswered}>{words.isTheVantagePluggedInto}</Empty>}
        height="calc(100vh - 330px)"
      />
    </>
  );
});

const columnsOf = (site: number): LongColumn<Sighting>[] => [
  { field: 'address', head: words.address, least: 140, share: 0.5, cell: (row) => <Place row={row} site={site} /> },
  { field: 'mac', head: words.mac, least: 150, cell: (row) => <DeviceText>{row.mac}</DeviceText> },
  { field: 'vendor', head: words.vendor, least: 140, share: 1, cell: (row) => visible(row.vendor ?? '') },
  { field: 'kind', head: words.kind, least: 150, share: 0.3, cell: (row) => <KindCell kind={row.kind} /> },
  { field: 'ports', head: words.ports, least: 120, share: 0.8, cell: (row) => <DeviceText>{row.ports.map((p) => p.port.replace('tcp/', '')).join(' ')}</DeviceText> },
  { field: 'words', head: words.banner, least: 160, share: 1.6, cell: (row) => <DeviceText>{firstWords(row)}</DeviceText> },
];

/** Where somebody was seen, and the way to the device that is known there. */
function Place({ row, site }: { row: Sighting; site: number }) {
  const place = <DeviceText>{[row.addr, row.unit].filter(Boolean).join(' ') || words.none}</DeviceText>;
  if (!row.device) return place;
  return (
    <Link className="link" to={`/sites/${site}/devices/${row.device}`}>
      {place}
    </Link>
  );
}

/** The most telling banner of a sighting. */
function firstWords(s: Sighting): string {
  const words = s.ports.flatMap((p) => p.words);
  const telling = ['http.title', 'ftp.greeting', 'text.telnet', 'mail.smtp', 'ssh.greeting', 'rtsp.server', 'text.greeting', 'http.server'];
  for (const key of telling) {
    const word = words.find((w) => w.key === key);
    if (word) return word.value;
  }
  return '';
}
