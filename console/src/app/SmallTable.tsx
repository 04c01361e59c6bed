import { Table, TableBody, TableCell, TableHead, TableRow } from '@mui/material';
import type { ReactNode } from 'react';

import { Scrolling } from './parts';

/** A column of a table. */
export interface SmallColumn<T> {
  head: ReactNode;
  right?: boolean;
  /** Keeps what it says on one line, as columns of figures do anyway. */
  line?: boolean;
  /** Leaves it out where the window is narrow. */
  wide?: boolean;
  /** Its share of the table's width, where that is not left to what it holds. */
  width?: string;
  cell: (row: T) => ReactNode;
}

/** A table that is shown whole. Columns that are not there are left out. */
export function SmallTable<T>({
  label,
  columns,
  rows,
  rowKey,
}: {
  label: string;
  columns: (SmallColumn<T> | false | undefined)[];
  rows: T[];
  rowKey: (row: T) => string | number;
}) {
  const shown = columns.filter((c) => c !== false && c !== undefined);
  return (
    <Scrolling label={label}>
      <Table size="small" aria-label={label}>
        <TableHead>
          <TableRow>
            {shown.map((c, i) => (
              <TableCell key={i} align={c.right ? 'right' : undefined} sx={{ ...place(c), width: c.width }}>
                {c.head}
              </TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {rows.map((row) => (
            <TableRow key={rowKey(row)} sx={{ verticalAlign: 'top' }}>
              {shown.map((c, i) => (
                <TableCell key={i} align={c.right ? 'right' : undefined} sx={{ ...place(c), whiteSpace: c.line || c.right ? 'nowrap' : undefined }}>
                  {c.cell(row)}
                </TableCell>
              ))}
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Scrolling>
  );
}

/** Where a column is shown. */
const place = (c: { wide?: boolean }) => (c.wide ? { display: { xs: 'none', sm: 'table-cell' } } : {});
