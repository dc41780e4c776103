import { useVirtualizer, type VirtualItem } from "@tanstack/react-virtual";
import {
  memo,
  useCallback,
  useEffect,
  useId,
  useImperativeHandle,
  useMemo,
  useRef,
  type ClipboardEvent,
  type KeyboardEvent,
  type MouseEvent,
  type ReactNode,
  type Ref,
} from "react";
import type { Level } from "../api/client";
import { ArmSign } from "./ArmSign";

export interface Spot {
  row: number;
  col: number;
}

/** How one cell looks: a level with a small word, or a mark, or nothing. */
export interface Look {
  cls: string;
  level?: Level;
  word?: string;
  mark?: string;
  label: string;
}

export interface GridHandle {
  focus: () => void;
  show: (spot: Spot) => void;
}

interface Props {
  label: string;
  rows: number;
  columns: number;
  rowHeight?: number;
  columnWidth?: number;
  headHeight?: number;
  rowHeadWidth?: number;
  rowKey: (row: number) => string;
  columnKey: (col: number) => string;
  rowClass: (row: number) => string;
  rowHead: (row: number) => ReactNode;
  /** What a row's head is read out as, where that is not what stands in it. */
  rowName?: (row: number) => string;
  corner: ReactNode;
  /** Heads of the columns in sight, placed by themselves. */
  heads: (cols: { index: number; start: number }[], width: number) => ReactNode;
  bands?: (cols: { index: number; start: number }[], width: number) => ReactNode;
  look: (row: number, col: number) => Look;
  at: Spot;
  from: Spot;
  onMove: (at: Spot, from: Spot) => void;
  onKey: (event: KeyboardEvent) => void;
  /** Whether dragging paints instead of selecting; called when the button is let go. */
  onPainted?: (at: Spot, from: Spot) => void;
  onHover?: (spot: Spot | null) => void;
  onCopy?: (event: ClipboardEvent) => void;
  onPaste?: (event: ClipboardEvent) => void;
  onScrolled?: (first: number, last: number) => void;
  handle?: Ref<GridHandle>;
}

const Cell = memo(function Cell({
  id,
  left,
  width,
  col,
  row,
  cls,
  level,
  word,
  mark,
  label,
  selected,
}: { id: string; left: number; width: number; row: number; col: number; selected: boolean } & Look) {
  return (
    <div
      id={id}
      role="gridcell"
      aria-colindex={col + 2}
      aria-selected={selected}
      aria-label={label}
      className={cls}
      data-row={row}
      data-col={col}
      data-sign={level ?? mark}
      data-word={word || undefined}
      style={{ left, width }}
    >
      {level && <ArmSign level={level} />}
    </div>
  );
});

interface RowProps {
  name: string;
  row: number;
  top: number;
  height: number;
  width: number;
  headWidth: number;
  columns: readonly VirtualItem[];
  columnWidth: number;
  columnKey: (col: number) => string;
  cls: string;
  head: (row: number) => ReactNode;
  spoken?: (row: number) => string;
  /** Of the columns in sight. */
  looks: readonly Look[];
  active: number;
  left: number;
  right: number;
  lit: boolean;
  several: boolean;
}

const alike = (a: object, b: object) => {
  const keys = Object.keys(a);
  return keys.length === Object.keys(b).length && keys.every((key) => Object.is(a[key as never], b[key as never]));
};

/** Whether a row would be drawn the same: looks are compared by what they say. */
const sameRow = ({ looks: before, ...was }: RowProps, { looks: after, ...now }: RowProps) =>
  alike(was, now) && before.length === after.length && before.every((look, number) => alike(look, after[number]!));

/** A row draws itself anew only when something of it changes: neither scrolling past it does that, nor a change in another row. */
const Row = memo(function Row({
  name,
  row,
  top,
  height,
  width,
  headWidth,
  columns,
  columnWidth,
  columnKey,
  cls,
  head,
  spoken,
  looks,
  active,
  left,
  right,
  lit,
  several,
}: RowProps) {
  return (
    <div role="row" aria-rowindex={row + 2} className={`r ${cls}`} style={{ top, height, width }}>
      <div
        role="rowheader"
        aria-colindex={1}
        aria-label={spoken?.(row)}
        className={`rowhead ${lit ? "lit" : ""}`}
        style={{ width: headWidth }}
      >
        {head(row)}
      </div>
      {columns.map(({ index: col, start }, number) => {
        const selected = col >= left && col <= right;
        const seen = looks[number]!;
        const state = `c ${seen.cls}${selected && several ? " sel" : ""}${col === active ? " active" : ""}`;
        return (
          <Cell
            key={columnKey(col)}
            id={`${name}-${row}-${col}`}
            row={row}
            col={col}
            left={start}
            width={columnWidth}
            selected={selected}
            {...seen}
            cls={state}
          />
        );
      })}
    </div>
  );
}, sameRow);

/** A grid of rows × columns of which only what is in sight is drawn, with the keyboard of the ARIA grid pattern. Heads and names stay put. */
export function Grid(props: Props) {
  const {
    rows,
    columns,
    rowHeight = 31,
    columnWidth = 50,
    headHeight = 130,
    rowHeadWidth = 216,
    at,
    from,
    onMove,
    handle,
    onScrolled,
  } = props;
  const name = useId();
  const box = useRef<HTMLDivElement>(null);
  const dragging = useRef(false);
  const moved = useRef({ at, from });
  moved.current = { at, from };

  const vertical = useVirtualizer({
    count: rows,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 14,
    paddingStart: headHeight,
  });
  const horizontal = useVirtualizer({
    count: columns,
    getScrollElement: () => box.current,
    estimateSize: () => columnWidth,
    overscan: 8,
    paddingStart: rowHeadWidth,
    paddingEnd: 60,
    horizontal: true,
  });
  const seenRows = vertical.getVirtualItems();
  const seenColumns = horizontal.getVirtualItems();
  const isDrawn = seenRows.some((one) => one.index === at.row) && seenColumns.some((one) => one.index === at.col);
  const { look } = props;
  const looks = useMemo(
    () => new Map(seenRows.map(({ index: row }) => [row, seenColumns.map(({ index: col }) => look(row, col))])),
    [seenRows, seenColumns, look],
  );
  const width = horizontal.getTotalSize();
  const firstColumn = seenColumns[0]?.index ?? 0;
  const lastColumn = seenColumns.at(-1)?.index ?? -1;

  useEffect(() => {
    onScrolled?.(firstColumn, lastColumn);
  }, [firstColumn, lastColumn, onScrolled]);

  const show = useCallback(
    (spot: Spot) => {
      const element = box.current;
      if (!element) return;
      const top = spot.row * rowHeight;
      const left = spot.col * columnWidth;
      if (top < element.scrollTop) element.scrollTop = top;
      else if (top + rowHeight + headHeight > element.scrollTop + element.clientHeight)
        element.scrollTop = top + rowHeight + headHeight - element.clientHeight;
      if (left < element.scrollLeft) element.scrollLeft = left;
      else if (left + columnWidth + rowHeadWidth > element.scrollLeft + element.clientWidth)
        element.scrollLeft = left + columnWidth + rowHeadWidth - element.clientWidth;
    },
    [columnWidth, headHeight, rowHeadWidth, rowHeight],
  );
  useImperativeHandle(handle, () => ({ focus: () => box.current?.focus({ preventScroll: true }), show }), [show]);

  const go = (row: number, col: number, extend: boolean) => {
    const spot = { row: Math.max(0, Math.min(rows - 1, row)), col: Math.max(0, Math.min(columns - 1, col)) };
    onMove(spot, extend ? from : spot);
    show(spot);
  };

  const onKeyDown = (event: KeyboardEvent) => {
    if (event.target !== box.current) return;
    const jump = event.ctrlKey || event.metaKey;
    const steps: Record<string, [number, number]> = {
      ArrowUp: [-1, 0],
      ArrowDown: [1, 0],
      ArrowLeft: [0, -1],
      ArrowRight: [0, 1],
      PageUp: [-10, 0],
      PageDown: [10, 0],
      Home: [jump ? -rows : 0, -columns],
      End: [jump ? rows : 0, columns],
    };
    const stride = steps[event.key];
    if (stride && !event.altKey) {
      event.preventDefault();
      const whole = jump && event.key.startsWith("Arrow");
      go(at.row + stride[0] * (whole ? rows : 1), at.col + stride[1] * (whole ? columns : 1), event.shiftKey);
    } else {
      props.onKey(event);
    }
  };

  const spotOf = (event: MouseEvent): Spot | null => {
    const cell = (event.target as HTMLElement).closest<HTMLElement>("[data-col]");
    return cell ? { row: Number(cell.dataset.row), col: Number(cell.dataset.col) } : null;
  };
  const onMouseDown = (event: MouseEvent) => {
    const spot = spotOf(event);
    if (!spot || event.button !== 0) return;
    dragging.current = true;
    onMove(spot, event.shiftKey ? from : spot);
  };
  const onMouseOver = (event: MouseEvent) => {
    const spot = spotOf(event);
    props.onHover?.(spot);
    if (spot && dragging.current) onMove(spot, moved.current.from);
  };
  const { onPainted } = props;
  useEffect(() => {
    const up = () => {
      if (!dragging.current) return;
      dragging.current = false;
      onPainted?.(moved.current.at, moved.current.from);
    };
    window.addEventListener("mouseup", up);
    return () => window.removeEventListener("mouseup", up);
  }, [onPainted]);

  const [top, bottom] = [Math.min(at.row, from.row), Math.max(at.row, from.row)];
  const [left, right] = [Math.min(at.col, from.col), Math.max(at.col, from.col)];
  const several = top !== bottom || left !== right;

  return (
    <div
      ref={box}
      className="grid"
      role="grid"
      tabIndex={0}
      aria-label={props.label}
      aria-rowcount={rows + 1}
      aria-colcount={columns + 1}
      aria-multiselectable="true"
      aria-activedescendant={isDrawn ? `${name}-${at.row}-${at.col}` : undefined}
      onKeyDown={onKeyDown}
      onMouseDown={onMouseDown}
      // eslint-disable-next-line jsx-a11y/mouse-events-have-key-events -- drags, and what keys with Alt show, too
      onMouseOver={onMouseOver}
      onMouseLeave={() => props.onHover?.(null)}
      onCopy={props.onCopy}
      onPaste={props.onPaste}
    >
      <div className="sheet" role="presentation" style={{ height: vertical.getTotalSize() + 40, width }}>
        <div className="heads" role="presentation" style={{ height: headHeight, width }}>
          {props.bands && (
            <div role="row" style={{ position: "absolute", inset: 0, height: 22 }}>
              {props.bands(seenColumns, columnWidth)}
            </div>
          )}
          <div role="row" aria-rowindex={1} style={{ height: headHeight }}>
            <div className="corner" role="columnheader" aria-colindex={1} style={{ width: rowHeadWidth, height: headHeight }}>
              {props.corner}
            </div>
            {props.heads(seenColumns, columnWidth)}
          </div>
        </div>
        {seenRows.map(({ index: row, start }) => {
          const rowIn = row >= top && row <= bottom;
          return (
            <Row
              key={props.rowKey(row)}
              name={name}
              row={row}
              top={start}
              height={rowHeight}
              width={width}
              headWidth={rowHeadWidth}
              columns={seenColumns}
              columnWidth={columnWidth}
              columnKey={props.columnKey}
              cls={props.rowClass(row)}
              head={props.rowHead}
              spoken={props.rowName}
              looks={looks.get(row)!}
              active={row === at.row ? at.col : -1}
              left={rowIn ? left : -1}
              right={rowIn ? right : -2}
              lit={row === at.row}
              several={rowIn && several}
            />
          );
        })}
      </div>
    </div>
  );
}
