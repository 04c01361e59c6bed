import { Typography } from '@mui/material';

import type { Schema } from '../api/client';
import { DeviceText } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { moment } from '../lib/format';
import { words } from './words';

/** Sessions of the console that are open. */
export function SessionTable({ sessions }: { sessions: Schema['OpenSignIn'][] }) {
  if (sessions.length === 0) return <Typography color="textSecondary">{words.noSessionIsOpen}</Typography>;
  return (
    <SmallTable
      label={words.openSessions}
      rows={sessions}
      rowKey={(s) => `${s.origin} ${s.began} ${s.used}`}
      columns={[
        { head: words.from, cell: (s) => <DeviceText>{s.origin}</DeviceText> },
        { head: words.since, line: true, cell: (s) => moment(s.began) },
        { head: words.used, line: true, cell: (s) => moment(s.used) },
      ]}
    />
  );
}
