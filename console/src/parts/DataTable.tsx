import { useVirtualizer } from '@tanstack/react-virtual';
import { type ReactNode, useEffect, useRef, useState, useSyncExternalStore } from 'react';
import style from './DataTable.module.css';
import { useKeys } from './keys';

export interface Column<T> {
  title: string;
  width: string;
  cell: (row: T) => ReactNode;
  /** Left out where there is room for little. */
  minor?: boolean;
}

const narrow = '(max-width: 40rem)';

/** True on a telephone. */
const useNarrow = () =>
  useSyncExternalStore(
    (tell) => {
      const query = matchMedia(narrow);
      query.addEventListener('change', tell);
      return () => query.removeEventListener('change', tell);
    },
    () => matchMedia(narrow).matches,
  );

/**
 * The one table: rows are drawn only where they are seen, so it stays fast with any number. Arrow keys walk the
 * rows, Enter opens one; j, k and x work at once when nothing else on the page has the keys.
 */
export function DataTable<T>(props: {
  label: string;
  columns: Column<T>[];
  rows: T[];
  keyOf: (row: T) => string;
  open: (row: T) => void;
  /** What the key x does with the row at hand. */
  mark?: (row: T) => void;
  empty: ReactNode;
  more?: () => void;
  total?: number;
}) {
  const { rows, more } = props;
  const isNarrow = useNarrow();
  const columns = isNarrow ? props.columns.filter((c) => !c.minor) : props.columns;
  const scroller = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState(0);
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroller.current, estimateSize: () => 45, overscan: 12 });
  const items = virtual.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && rows.length > 0 && last >= rows.length - 10) more();
  }, [last, more, rows.length]);

  const template = { gridTemplateColumns: columns.map((c) => c.width).join(' ') };
  const walk = (event: Pick<globalThis.KeyboardEvent, 'key' | 'preventDefault' | 'target'>) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 12, PageUp: -12, j: 1, k: -1 }[event.key];
    if (step) {
      event.preventDefault();
      const next = Math.max(0, Math.min(rows.length - 1, at + step));
      setAt(next);
      virtual.scrollToIndex(next);
    }
    const row = rows[at];
    if (event.key === 'x' && row && props.mark) props.mark(row);
    if (event.key === 'Enter' && row && event.target === scroller.current) props.open(row);
  };

  // The page's first table takes the keys that nothing else has; the first j or k only shows where one is.
  const take = (key: string) => {
    if (document.activeElement !== document.body) return false;
    if (scroller.current === null || scroller.current !== document.querySelector(`.${style.body}`)) return false;
    scroller.current.focus();
    if (key === 'x') walk({ key, preventDefault: () => {}, target: scroller.current });
  };
  useKeys(
    rows.length === 0
      ? []
      : [
          { key: 'j', what: 'Down a row', run: () => take('j') },
          { key: 'k', what: 'Up a row', run: () => take('k') },
          ...(props.mark ? [{ key: 'x', what: 'Choose the row', run: () => take('x') }] : []),
        ],
  );

  if (rows.length === 0) return <div className={style.empty}>{props.empty}</div>;
  return (
    <div className={style.table} role="table" aria-label={props.label} aria-rowcount={more ? -1 : rows.length + 1}>
      <div role="rowgroup" className={style.head}>
        <div role="row" className={style.row} style={template} aria-rowindex={1}>
          {columns.map((column) => (
            <div role="columnheader" key={column.title}>
              {column.title}
            </div>
          ))}
        </div>
      </div>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: the scroller takes the keys that walk the rows */}
      <div role="rowgroup" className={style.body} ref={scroller} tabIndex={0} onKeyDown={walk}>
        <div role="presentation" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {items.map((item) => {
            const row = rows[item.index];
            if (row === undefined) return null;
            return (
              // biome-ignore lint/a11y/useKeyWithClickEvents: the link in the first cell and Enter do the same
              <div
                role="row"
                key={props.keyOf(row)}
                aria-rowindex={item.index + 2}
                className={`${style.row} ${style.line} ${item.index === at ? style.at : ''}`}
                style={{ ...template, transform: `translateY(${item.start}px)` }}
                onClick={(event) => {
                  if (!(event.target as HTMLElement).closest('a, button, input')) props.open(row);
                }}
              >
                {columns.map((column) => (
                  <div role="cell" key={column.title}>
                    {column.cell(row)}
                  </div>
                ))}
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}
