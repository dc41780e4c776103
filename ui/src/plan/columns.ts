import { api, ask, type Column, type Level } from "../api/client";

const BLOCK = 24;
const LEVELS: Record<string, Level> = { N: "NA", P: "PT", R: "RO", W: "RW" };

/** Over a protocol, or what grants and storage alone would give; without it, over any way in. */
export type Seen = "smb" | "nfs" | "storage";

/** What comes out for somebody in a place, where from, what is granted, and how the one stands to the other. The letters are the API's. */
export interface CellOut {
  level: Level;
  source: string;
  granted: Level;
  state: string;
}

/** The columns of the board that this browser has, fetched in blocks as they are looked at. Old ones stay in sight until new ones are here. */
export class Columns {
  private readonly have = new Map<string, Column>();
  private stale = new Set<string>();
  private readonly asked = new Set<string>();
  private readonly listeners = new Set<() => void>();
  private waiting = new Set<string>();
  private scheduled = false;
  version = 0;
  failed = false;

  constructor(
    private readonly plan: string,
    private readonly revision: () => number,
    private readonly over?: Seen,
  ) {}

  subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  getVersion = () => this.version;

  /** A cell by place and number of the subject; nothing while its column is still to come. */
  cell(place: string, subject: number | undefined): CellOut | undefined {
    const column = this.have.get(place);
    const level = LEVELS[column?.levels[subject ?? -1] ?? ""];
    return column && level
      ? {
          level,
          source: column.sources[subject!] ?? "-",
          granted: LEVELS[column.granted[subject!] ?? ""] ?? "NA",
          state: column.states[subject!] ?? "=",
        }
      : undefined;
  }

  has(place: string): boolean {
    return this.have.has(place);
  }

  put(columns: Record<string, Column>) {
    for (const [place, column] of Object.entries(columns)) {
      this.have.set(place, column);
      this.stale.delete(place);
    }
    this.changed();
  }

  /** Everything must be fetched again, when it is next looked at. */
  outdate() {
    this.stale = new Set(this.have.keys());
    this.changed();
  }

  /** See to it that these places' columns come. */
  need(places: Iterable<string>) {
    for (const place of places) {
      if ((!this.have.has(place) || this.stale.has(place)) && !this.asked.has(place)) this.waiting.add(place);
    }
    if (this.waiting.size > 0 && !this.scheduled) {
      this.scheduled = true;
      queueMicrotask(() => void this.fetch());
    }
  }

  private async fetch() {
    this.scheduled = false;
    const wanted = [...this.waiting];
    this.waiting = new Set();
    const blocks: string[][] = [];
    for (let at = 0; at < wanted.length; at += BLOCK) blocks.push(wanted.slice(at, at + BLOCK));
    await Promise.all(
      blocks.map(async (block) => {
        for (const place of block) this.asked.add(place);
        try {
          const answer = await ask(
            api.GET("/api/v1/plans/{plan}/board", { params: { path: { plan: this.plan }, query: { place: block, over: this.over } } }),
          );
          this.failed = false;
          if (answer.revision === this.revision()) this.put(answer.columns);
          else window.setTimeout(() => this.changed(), 150); // the plan moved on meanwhile: whoever looks asks again
        } catch {
          this.failed = true;
          this.changed();
        } finally {
          for (const place of block) this.asked.delete(place);
        }
      }),
    );
  }

  private changed() {
    this.version++;
    for (const listener of this.listeners) listener();
  }
}
