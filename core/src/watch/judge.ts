import { learn, type Expectation, type Measured } from './learn.js';
import type { Scale } from './scales.js';

/** A measure of a table over time, and its newest value. */
export interface Series {
  readonly name: string;
  readonly scale: Scale;
  /** Values that were learned: inside their bounds, or accepted; in the order of the days. */
  readonly past: readonly Measured[];
  /** The newest values that were outside and not accepted, in the order of the days. */
  readonly outside?: readonly Measured[];
  readonly now: Measured;
  /** The standard error that its values have by chance, as a share of them. */
  readonly error?: number;
}

export interface Judged {
  readonly name: string;
  /** `silent`: the past is too short to expect anything. `agreed`: outside, as the two values before it were, and they agree: a new level. */
  readonly verdict: 'silent' | 'inside' | 'outside' | 'agreed';
  /** What was expected, of a series that is outside. */
  readonly expected?: {
    readonly least: number;
    readonly greatest: number;
    readonly by: Expectation['by'];
    readonly from: number;
  };
  /** How likely so unusual a value is; 1 while silent. */
  readonly likelihood: number;
}

export interface TableJudged {
  readonly series: readonly Judged[];
  /** The least likely series that is outside: what is told. The others are listed under it. */
  readonly finding: Judged | undefined;
}

/** Of so many days of a table one is told falsely, where the past is as its model; it never quite is, and one in 1,000 is allowed. */
const FALSE_DAYS = 10_000;
/** Rows tell most, so that a part of the table's budget is theirs alone. */
const ROWS = 'rows';
const ROWS_SHARE = 0.3;
/** So many values outside that agree are a new level. */
const AGREEING = 3;

/**
 * Judges the newest values of a table's measures, which share one budget of false findings a day: each series that can
 * speak has its part of it (Bonferroni's correction, weighted).
 */
export function judgeTable(series: readonly Series[]): TableJudged {
  const learned = series.map((s) => ({
    s,
    expected: learn(s.past, s.now.day, { scale: s.scale, ...(s.error === undefined ? {} : { error: s.error }) }),
  }));
  const speaking = learned.filter((l) => l.expected);
  const hasRows = speaking.some((l) => l.s.name === ROWS);
  const others = speaking.length - (hasRows ? 1 : 0);
  const partOf = (name: string) =>
    (name === ROWS ? (others ? ROWS_SHARE : 1) : (hasRows ? 1 - ROWS_SHARE : 1) / others) / FALSE_DAYS;
  const judged = learned.map(({ s, expected }): Judged => {
    if (!expected) return { name: s.name, verdict: 'silent', likelihood: 1 };
    const part = partOf(s.name);
    const likelihood = expected.likelihood(s.now.value);
    if (likelihood >= part) return { name: s.name, verdict: 'inside', likelihood };
    const shown = { ...expected.range(part), by: expected.by, from: expected.from };
    return { name: s.name, verdict: agrees(s, expected, part) ? 'agreed' : 'outside', expected: shown, likelihood };
  });
  const outside = judged.filter((j) => j.verdict === 'outside');
  const weighted = (j: Judged) => j.likelihood / partOf(j.name);
  const finding = outside.reduce<Judged | undefined>(
    (least, j) => (least && weighted(least) <= weighted(j) ? least : j),
    undefined,
  );
  return { series: judged, finding };
}

/** Whether the newest values outside are within each other's reach: as wide a range around one holds the others. */
function agrees({ outside = [], now }: Series, expected: Expectation, part: number): boolean {
  const before = outside.slice(1 - AGREEING);
  if (before.length < AGREEING - 1) return false;
  const { least, greatest } = expected.range(part);
  const width = (greatest - least) / 2;
  const values = [...before.map((b) => b.value), now.value];
  const scaled = Math.max(1, Math.abs(now.value) / Math.max(Math.abs(expected.center), Number.EPSILON));
  return Math.max(...values) - Math.min(...values) <= width * scaled;
}
