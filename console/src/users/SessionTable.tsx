import { Table, TableBody, TableCell, TableHead, TableRow, Typography } from '@mui/material';

import type { Schema } from '../api/client';
import { DeviceText, Scrolling } from '../app/parts';
import { moment } from '../lib/format';

/** Sessions of the console that are open. */
export function SessionTable({ sessions }: { sessions: Schema['OpenSignIn'][] }) {
  if (sessions.length === 0) return <Typography color="textSecondary">No session is open.</Typography>;
  return (
    <Scrolling>
      <Table size="small" aria-label="Open sessions">
        <TableHead>
          <TableRow>
            <TableCell>From</TableCell>
            <TableCell>Since</TableCell>
            <TableCell>Used</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {sessions.map((s, i) => (
            <TableRow key={i}>
              <TableCell>
                <DeviceText>{s.origin}</DeviceText>
              </TableCell>
              <TableCell>{moment(s.began)}</TableCell>
              <TableCell>{moment(s.used)}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Scrolling>
  );
}
