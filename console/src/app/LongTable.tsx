import { useVirtualizer } from '@tanstack/react-virtual';
import { memo, useEffect, useRef, type ReactNode } from 'react';

import { number } from '../lib/format';
import { Icon } from './Icon';
import { icons } from './icons';
import './LongTable.css';
import type { LongList } from './useLongList';
import { words } from './words';

/** A column of a long table. */
export interface LongColumn<T> {
  field: string;
  head: string;
  /** The least width, in pixels. */
  least: number;
  /** Its share of the width that is left over; 0 keeps the least. */
  share?: number;
  right?: boolean;
  sortable?: boolean;
  cell: (row: T) => ReactNode;
}

interface LongTableProps<T> {
  /** What the table holds, for who cannot see it. */
  label: string;
  columns: LongColumn<T>[];
  list: LongList<T>;
  sort?: { field: string; descend: boolean; change: (field: string, descend: boolean) => void };
  /** The row that stands on top at first, from 0, and what is done when another does. */
  at?: number;
  onAt?: (row: number) => void;
  /** What is shown where there is nothing. */
  none: ReactNode;
  height: string;
}

/** The height of a row and of the head, in pixels. */
const rowHeight = 36;
const headHeight = 44;

/** How long somebody has to rest at a place before it is taken down, in milliseconds. */
const restFor = 300;

/** A table of any length in a frame of its own, which is scrolled: only the rows on screen are drawn, and loaded. */
export function LongTable<T>(props: LongTableProps<T>) {
  // Drawn once its length is known, as it could not be scrolled to its place before.
  if (props.list.total !== undefined) return <Shown {...props} />;
  return (
    <div className="long" style={{ height: props.height }}>
      {props.list.loading && <LoadingLine />}
    </div>
  );
}

/** Says that something is loaded; it takes no room. */
function LoadingLine() {
  return <div className="long-loading" role="progressbar" aria-label={words.loading} />;
}

function Shown<T>({ label, columns, list, sort, at = 0, onAt, none, height }: LongTableProps<T>) {
  const frame = useRef<HTMLDivElement>(null);
  const total = list.total ?? 0;
  // eslint-disable-next-line react-hooks/incompatible-library -- its functions are called here alone, at each drawing
  const rows = useVirtualizer({
    count: total,
    getScrollElement: () => frame.current,
    estimateSize: () => rowHeight,
    overscan: 4,
    initialOffset: at * rowHeight,
    paddingStart: headHeight,
  });
  const drawn = rows.getVirtualItems();
  const first = Math.floor((rows.scrollOffset ?? 0) / rowHeight);
  const last = Math.min(total, Math.max(first + 1, Math.floor(((rows.scrollOffset ?? 0) + (rows.scrollRect?.height ?? 0) - headHeight) / rowHeight)));
  useShown(list, drawn[0]?.index ?? 0, drawn.at(-1)?.index ?? 0);
  useResting(first, at, onAt);
  const width = columns.reduce((sum, c) => sum + c.least, 0);
  const tracks = columns.map((c) => (c.share ? `minmax(${c.least}px, ${c.share}fr)` : `${c.least}px`)).join(' ');
  return (
    <div className="long" style={{ height }}>
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- what scrolls is to be reached by keyboard (WCAG 2.2, 2.1.1) */}
      <div ref={frame} tabIndex={0} role="region" aria-label={label} className="long-frame">
        <div role="table" aria-label={label} aria-rowcount={total + 1} className="long-table" style={{ minWidth: width, height: total > 0 ? rows.getTotalSize() : undefined }}>
          <div role="rowgroup" className="long-head">
            <Heads columns={columns} tracks={tracks} field={sort?.field} descend={sort?.descend} onSort={sort?.change} />
            {list.loading && <LoadingLine />}
          </div>
          <div role="rowgroup">
            {drawn.map(({ index, start }) => (
              <Row key={index} index={index} top={start} tracks={tracks} columns={columns} row={list.row(index)} />
            ))}
          </div>
        </div>
        {list.total === 0 && none}
      </div>
      <div className="long-foot">{total > 0 ? words.of(number(first + 1), number(last), number(total)) : '\u00a0'}</div>
    </div>
  );
}

interface RowProps<T> {
  index: number;
  top: number;
  tracks: string;
  columns: LongColumn<T>[];
  row: T | undefined;
}

/** A row is drawn again only if something of it is another: the frame around it is drawn at each step of a scroll. */
const Row = memo(function Row<T>({ index, top, tracks, columns, row }: RowProps<T>) {
  return (
    <div role="row" className="long-row" aria-rowindex={index + 2} style={{ top, height: rowHeight, gridTemplateColumns: tracks }}>
      {columns.map((c) => (
        <div key={c.field} role="cell" className={c.right ? 'long-cell long-right' : 'long-cell'}>
          {row ? c.cell(row) : ''}
        </div>
      ))}
    </div>
  );
}) as <T>(props: RowProps<T>) => ReactNode;

/** Tells the list which rows are on screen. */
function useShown<T>({ look }: LongList<T>, first: number, last: number) {
  useEffect(() => look(first, last), [look, first, last]);
}

/** Takes down where somebody rests. */
function useResting(first: number, at: number, onAt: ((row: number) => void) | undefined) {
  useEffect(() => {
    if (first === at || !onAt) return;
    const timer = setTimeout(() => onAt(first), restFor);
    return () => clearTimeout(timer);
  }, [first, at, onAt]);
}

interface HeadsProps<T> {
  columns: LongColumn<T>[];
  tracks: string;
  field?: string;
  descend?: boolean;
  onSort?: (field: string, descend: boolean) => void;
}

const Heads = memo(function Heads<T>({ columns, tracks, field, descend = false, onSort }: HeadsProps<T>) {
  return (
    <div role="row" aria-rowindex={1} style={{ gridTemplateColumns: tracks, height: headHeight - 1 }}>
      {columns.map((c) => {
        const sorted = field === c.field;
        const sortable = onSort && c.sortable !== false;
        return (
          <div
            key={c.field}
            role="columnheader"
            data-field={c.field}
            aria-sort={sortable ? (sorted ? (descend ? 'descending' : 'ascending') : 'none') : undefined}
            className={c.right ? 'long-right' : undefined}
          >
            {sortable ? (
              <button type="button" className={sorted ? 'sorted' : undefined} onClick={() => onSort(c.field, sorted && !descend)}>
                {c.head}
                <Icon of={sorted && descend ? icons.arrowDownward : icons.arrowUpward} size={16} />
              </button>
            ) : (
              c.head
            )}
          </div>
        );
      })}
    </div>
  );
}) as <T>(props: HeadsProps<T>) => ReactNode;
