import { useState } from "react";
import { useLocation } from "react-router";
import { Drawer, Input } from "antd";
import type { Level } from "../api/client";
import { ArmSign } from "../parts/ArmSign";
import help from "./help.json";
import { found } from "./find";

const STATIONS: Record<string, { title: string; lines: string[] }> = help.stations;
const LEVELS = new Set(["RW", "RO", "NA", "PT"]);

/** A sign as it stands on the board. */
function Sign({ sign }: { sign: string }) {
  if (LEVELS.has(sign))
    return (
      <span className={`sign tag ${sign}`}>
        <ArmSign level={sign as Level} /> {sign}
      </span>
    );
  return (
    <span className={`sign is-${sign}`} aria-hidden="true">
      {sign === "dash" ? "–" : sign === "word" ? "group" : ""}
    </span>
  );
}

/** What the station in sight is for, what its signs mean, and any word that is looked for. */
export default function Help({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState("");
  const name = useLocation().pathname.split("/")[3] ?? "";
  const station = STATIONS[name] ?? STATIONS.board!;
  const words = found(text, help.words as [string, string][]);
  return (
    <Drawer title={`Help: ${station.title}`} open onClose={onClose} size={520}>
      <Input allowClear aria-label="Find a word" placeholder="Find a word" value={text} onChange={(event) => setText(event.target.value)} />
      {text.trim() === "" && (
        <>
          <ol className="help-lines">
            {station.lines.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ol>
          <h3>Signs</h3>
          <dl className="help-signs">
            {help.signs.map(([sign, meaning]) => (
              <div key={sign}>
                <dt>
                  <Sign sign={sign!} />
                </dt>
                <dd>{meaning}</dd>
              </div>
            ))}
          </dl>
          <h3>Words</h3>
        </>
      )}
      <dl className="help-words" aria-live="polite">
        {words.map(([word, meaning]) => (
          <div key={word}>
            <dt>{word}</dt>
            <dd>{meaning}</dd>
          </div>
        ))}
      </dl>
      {words.length === 0 && <p className="muted">No word here has “{text.trim()}” in it.</p>}
    </Drawer>
  );
}
