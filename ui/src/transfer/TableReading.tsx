import { Button, Input, Select } from "antd";
import { useState } from "react";
import type { Layout, TableRead } from "../api/client";
import { plural } from "../parts/plural";
import { keepReading, readings } from "./readings";

const FORMS = [
  { value: "rows", label: "a row for each person" },
  { value: "columns", label: "a column for each person" },
  { value: "list", label: "a line for each person and folder" },
] as const;
const LEVELS: Record<string, string> = { RW: "read-write", RO: "read-only", NA: "no access", "": "nothing" };
const WISHES: Record<string, string> = { change: "change", read: "read", "must not": "must not", any: "does not matter", "": "nothing" };
const MOST = 9;

/** How a table was read: its first rows as they stand there, what is taken for what, and what its words mean; all of it can be said otherwise. */
export function TableReading({ table, needs, onLayout }: { table: TableRead; needs: boolean; onLayout: (layout: Layout) => void }) {
  const { layout } = table;
  const say = (some: Partial<Layout>) => onLayout({ ...layout, ...some });
  const width = Math.min(Math.max(...table.rows.map((row) => row.cells.length), 0), MOST);
  const columns = Array.from({ length: width }, (_, column) => ({
    value: column,
    label: table.rows.find((row) => row.line === layout.header)?.cells[column] || `column ${column + 1}`,
  }));
  const role = (line: number, column: number): string => {
    if (line < layout.header - layout.headings + 1) return "aside";
    if (line <= layout.header) return "head";
    if (layout.form === "list") return [layout.who, layout.place, layout.level].includes(column) ? "named" : "aside";
    return column === layout.who ? "named" : column < layout.who ? "aside" : "";
  };
  return (
    <section aria-label="How the table was read" className="reading">
      <div className="row" style={{ flexWrap: "wrap" }}>
        <h3>How it was read</h3>
        <span className="spread" />
        {table.sheets.length > 1 && (
          <Select
            size="small"
            aria-label="Sheet"
            value={layout.sheet}
            onChange={(sheet) => say({ sheet, header: 0 })}
            options={table.sheets.map((name) => ({ value: name, label: `sheet ${name}` }))}
          />
        )}
        <Select
          size="small"
          aria-label="Where people stand"
          style={{ minWidth: 235 }}
          value={layout.form}
          onChange={(form) => say(form === "list" ? { form, place: layout.place ?? 1, level: layout.level ?? 2 } : { form })}
          options={[...FORMS]}
        />
      </div>
      <div className="table-scroll" tabIndex={0}>
        <table>
          <tbody>
            {table.rows.map((row) => (
              <tr key={row.line}>
                <th scope="row">
                  <button
                    type="button"
                    aria-label={`Line ${row.line} has the headings`}
                    aria-pressed={row.line === layout.header}
                    onClick={() => say({ header: row.line, headings: 1 })}
                  >
                    {row.line}
                  </button>
                </th>
                {row.cells.slice(0, MOST).map((cell, column) => (
                  <td key={column} className={role(row.line, column)}>
                    {cell}
                  </td>
                ))}
                {row.cells.length > MOST && <td className="aside">… {row.cells.length - MOST} more</td>}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="row muted" style={{ flexWrap: "wrap" }}>
        Headings in line {layout.header}; press another line’s number to change that.
        {layout.form === "list" ? (
          <>
            <ColumnOf label="person" value={layout.who} columns={columns} onChange={(who) => say({ who })} />
            <ColumnOf label="folder" value={layout.place ?? 0} columns={columns} onChange={(place) => say({ place })} />
            <ColumnOf label="access" value={layout.level ?? 0} columns={columns} onChange={(level) => say({ level })} />
          </>
        ) : (
          <ColumnOf label="names" value={layout.who} columns={columns} onChange={(who) => say({ who })} />
        )}
      </div>
      <Words table={table} needs={needs} onWords={(words) => say({ words })} />
      <Remembered layout={layout} onLayout={onLayout} />
    </section>
  );
}

function ColumnOf({
  label,
  value,
  columns,
  onChange,
}: {
  label: string;
  value: number;
  columns: { value: number; label: string }[];
  onChange: (column: number) => void;
}) {
  return (
    <label className="row">
      {label}:{" "}
      <Select
        size="small"
        aria-label={`Column of the ${label}`}
        value={value}
        onChange={onChange}
        options={columns}
        style={{ minWidth: 110 }}
      />
    </label>
  );
}

/** What the words of cells mean: those that are not known first, since these say nothing until somebody says what they mean. */
function Words({ table, needs, onWords }: { table: TableRead; needs: boolean; onWords: (words: Record<string, string>) => void }) {
  const [all, setAll] = useState(false);
  const means = needs ? WISHES : LEVELS;
  const said = new Set(Object.keys(table.layout.words ?? {}));
  const isOpen = (word: TableRead["words"][number]) => word.means === null || said.has(word.word);
  const shown = table.words.filter((word) => all || isOpen(word));
  const rest = table.words.length - shown.length;
  if (table.words.length === 0) return null;
  return (
    <div className="meanings">
      {shown.map((word) => (
        <label key={word.word} className="row">
          <span className="spread">
            “{word.word}” in {plural(word.cells, "cell")} means
          </span>
          <Select
            size="small"
            aria-label={`What ${word.word} means`}
            status={word.means === null ? "warning" : undefined}
            value={word.means ?? "?"}
            style={{ width: 150 }}
            onChange={(value) => onWords({ ...table.layout.words, [word.word]: value })}
            options={[
              ...(word.means === null ? [{ value: "?", label: "not known: left out", disabled: true }] : []),
              ...Object.entries(means).map(([value, label]) => ({ value, label })),
            ]}
          />
        </label>
      ))}
      {rest > 0 && (
        <Button size="small" onClick={() => setAll(true)}>
          {shown.length > 0
            ? `and ${plural(rest, "word")} that ${rest === 1 ? "is" : "are"} known`
            : `What ${plural(rest, "word")} in its cells ${rest === 1 ? "means" : "mean"}`}
        </Button>
      )}
    </div>
  );
}

/** Ways of reading that were kept under a name in this browser, for the next table of the kind. */
function Remembered({ layout, onLayout }: { layout: Layout; onLayout: (layout: Layout) => void }) {
  const [name, setName] = useState("");
  const [kept, setKept] = useState(readings);
  return (
    <div className="row muted" style={{ flexWrap: "wrap" }}>
      {Object.keys(kept).length > 0 && (
        <Select
          size="small"
          aria-label="Read it as before"
          placeholder="Read it as before"
          style={{ minWidth: 170 }}
          value={null}
          onChange={(which: string) => onLayout({ ...layout, ...kept[which], sheet: layout.sheet })}
          options={Object.keys(kept).map((one) => ({ value: one, label: one }))}
        />
      )}
      <Input
        size="small"
        aria-label="Name of this way of reading"
        placeholder="Name, to read the next one alike"
        style={{ width: 230 }}
        value={name}
        maxLength={60}
        onChange={(event) => setName(event.target.value)}
      />
      <Button
        size="small"
        disabled={!name.trim()}
        onClick={() => {
          setKept(keepReading(name.trim(), layout));
          setName("");
        }}
      >
        Remember
      </Button>
    </div>
  );
}
