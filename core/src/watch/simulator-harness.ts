/**
 * Tables whose measures are known to be well, or known to be wrong from one day on. Nothing here is taken from what
 * learns and judges: it knows only what a measure is called.
 */
export const KINDS = ['steady', 'weekly', 'growing', 'stepped'] as const;
export type Kind = (typeof KINDS)[number];
export const FAULTS = ['a loss of 30 % of the rows', 'twice the nulls', 'a frozen date'] as const;
export type Fault = (typeof FAULTS)[number];

export interface SimulatedDay {
  readonly day: number;
  /** Measures by name: rows, added, age in seconds, null, distinct and top-ten shares of twelve columns. */
  readonly measures: ReadonlyMap<string, number>;
}

export interface Simulation {
  readonly kind: Kind;
  /** The standard deviation of the log-normal noise. */
  readonly noise: number;
  readonly days: number;
  readonly seed: number;
  /** What is wrong on one day. */
  readonly fault?: { readonly fault: Fault; readonly day: number };
}

const COLUMNS = 12;
const MISSED = 0.04;
const WEEK = [1, 1.05, 0.95, 1.1, 1, 0.45, 0.35] as const;

export const scaleOf = (name: string): 'count' | 'share' | 'age' =>
  name === 'age' ? 'age' : /share/.test(name) ? 'share' : 'count';

/** The measure that a fault shows in. */
export const measureOf = (fault: Fault): string =>
  fault === 'a frozen date' ? 'age' : fault === 'twice the nulls' ? 'null share 1' : 'rows';

/** The days of a table, those on which it was not loaded left out. */
export function* simulated({ kind, noise, days, seed, fault }: Simulation): Generator<SimulatedDay> {
  const random = randomOf(seed);
  const normal = () => Math.sqrt(-2 * Math.log(1 - random())) * Math.cos(2 * Math.PI * random());
  const noisy = (value: number) => value * Math.exp(noise * normal());
  const base = 10 ** (3 + 3 * random());
  const growth = 0.001 + 0.006 * random();
  const step = { day: 60 + Math.floor(random() * Math.max(1, days - 90)), factor: random() < 0.5 ? 1.6 : 0.55 };
  const added = 0.01 + 0.2 * random();
  const hours = 2 + 10 * random();
  const nulls = Array.from({ length: COLUMNS }, () => 0.01 + 0.19 * random());
  const distinct = Array.from({ length: COLUMNS }, () => (random() < 0.3 ? 0.002 : 0.05 + 0.8 * random()));
  const frequent = Array.from({ length: COLUMNS }, () => (random() < 0.3 ? 1 : 0.05 + 0.9 * random()));
  for (let day = 0; day < days; day++) {
    const isWrong = (f: Fault) => fault?.day === day && fault.fault === f;
    const shape =
      kind === 'weekly'
        ? WEEK[day % 7]!
        : kind === 'growing'
          ? 1 + growth * day
          : kind === 'stepped' && day >= step.day
            ? step.factor
            : 1;
    const rows = Math.round(noisy(base * shape) * (isWrong('a loss of 30 % of the rows') ? 0.7 : 1));
    const measures = new Map<string, number>([
      ['rows', rows],
      ['added', Math.round(noisy(base * added * (kind === 'weekly' ? shape : 1)))],
      ['age', noisy(hours * 3600) + (isWrong('a frozen date') ? 86_400 : 0)],
    ]);
    for (let c = 0; c < COLUMNS; c++) {
      measures.set(
        `null share ${c + 1}`,
        counted(noisy(nulls[c]!) * (c === 0 && isWrong('twice the nulls') ? 2 : 1), rows),
      );
      measures.set(`distinct share ${c + 1}`, counted(noisy(distinct[c]!), rows));
      measures.set(`top-ten share ${c + 1}`, counted(frequent[c] === 1 ? 1 : noisy(frequent[c]!), rows));
    }
    if (random() >= MISSED || fault?.day === day) yield { day, measures };
  }
}

/** A share as it is counted over some rows. */
const counted = (share: number, rows: number): number => Math.min(rows, Math.round(share * rows)) / Math.max(1, rows);

/** Mulberry32. */
function randomOf(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4_294_967_296;
  };
}
