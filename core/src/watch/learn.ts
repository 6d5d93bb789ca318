import { SCALES, type Scale } from './scales.js';
import { twoSided } from './student.js';

/** A measure on a day; days are counted in the zone of whoever measures. */
export interface Measured {
  /** Whole days since any fixed day; the weekday is its remainder by seven. */
  readonly day: number;
  readonly value: number;
}

/** What a measure is expected to be on a day, learned from its past. */
export interface Expectation {
  /** What the past shows: one level, a level a weekday, growth, or growth with weekdays. */
  readonly by: 'level' | 'weekday' | 'growth' | 'growth and weekday';
  /** From how many values. */
  readonly from: number;
  readonly center: number;
  /** How likely a value is that is at least as far from the center: between 0 and 1. */
  readonly likelihood: (value: number) => number;
  /** The values that are more likely than so much, and those that have been. */
  readonly range: (likelihood: number) => { readonly least: number; readonly greatest: number };
}

/** Nothing is expected from fewer values, or from fewer days between the first and the last. */
export const LEAST_VALUES = 14;
export const LEAST_DAYS = 14;
/** Weekdays are told apart once each has been seen so often. */
export const LEAST_OF_A_WEEKDAY = 4;
/** Older values say little of today. */
const WINDOW = 120;
/** A level is told from growth over so many values: growth is a straight line for no longer. */
const GROWTH_WINDOW = 60;

/**
 * Learns what a measure should be on a day. The model is the simplest that explains the past: a level, a level a
 * weekday, a straight line, or both, over values transformed by their scale; its spread is that of the residuals,
 * those far out drawn in, and the error of what was learned is part of it (the predictive t distribution).
 * @param past in the order of the days, without values that were outside and not accepted
 * @param error that a value has by chance alone, as a standard error: a share of the value
 * @returns undefined where the past is too short
 */
export function learn(
  past: readonly Measured[],
  day: number,
  { scale, error = 0 }: { readonly scale: Scale; readonly error?: number },
): Expectation | undefined {
  const first = past[0];
  const last = past.at(-1);
  if (!first || past.length < LEAST_VALUES || last!.day - first.day + 1 < LEAST_DAYS) return undefined;
  const { to, back, least } = SCALES[scale];
  const points = past.slice(-WINDOW).map(({ day: d, value }) => ({ x: d - day, y: to(value) }));
  const fit = fitOf(points, weekdayOf(day), day);
  const spread = Math.max(fit.spread, least(fit.center), error) * Math.sqrt(1 + fit.leverage);
  const freedom = Math.max(1, fit.freedom);
  return {
    by: fit.by,
    from: points.length,
    center: back(fit.center),
    likelihood: (value) => {
      const off = to(value) - fit.center;
      // What has been before is nothing unusual.
      if (off >= fit.seen.least && off <= fit.seen.greatest) return 1;
      return spread > 0 ? twoSided(Math.abs(off) / spread, freedom) : 0;
    },
    range: (likelihood) => {
      const reach = spread * quantile(likelihood, freedom);
      const low = back(fit.center + Math.min(-reach, fit.seen.least));
      const high = back(fit.center + Math.max(reach, fit.seen.greatest));
      return {
        least: scale === 'number' ? low : Math.max(0, low),
        greatest: scale === 'share' ? Math.min(1, high) : high,
      };
    },
  };
}

interface Point {
  /** Days from the day that is asked about: below 0. */
  readonly x: number;
  readonly y: number;
}

interface Fit {
  readonly by: Expectation['by'];
  readonly center: number;
  readonly spread: number;
  readonly freedom: number;
  /** The error of the center, in squares of the spread. */
  readonly leverage: number;
  /** How far the values that were learned are from the center; on that weekday, where weekdays are told apart. */
  readonly seen: { readonly least: number; readonly greatest: number };
}

const weekdayOf = (day: number): number => ((day % 7) + 7) % 7;

/** A line is growth where its slope is so many times its own error. */
const CLEAR_SLOPE = 4;
/** Weekdays are told apart where that leaves so much of the spread, and less than chance leaves of it in few values: so many deviations of a spread's own error. */
const CLEAR_WEEK = 0.8;
const CLEAR_OF_CHANCE = 4;

/** The simplest fit that explains the past. */
function fitOf(points: readonly Point[], weekday: number, day: number): Fit {
  const of = (p: Point) => weekdayOf(day + p.x);
  const recent = points.slice(-GROWTH_WINDOW);
  const line = lineFit(recent);
  const grows = line.slope > CLEAR_SLOPE;
  const plain = grows ? line : levelFit(points);
  const seen = new Map<number, number>();
  const among = grows ? recent : points;
  for (const p of among) seen.set(of(p), (seen.get(of(p)) ?? 0) + 1);
  if (seen.size < 2 || (seen.get(weekday) ?? 0) < LEAST_OF_A_WEEKDAY || among.length < 3 * seen.size) return plain;
  const week = weekdayFit(among, { of, weekday, grows });
  if (!isClear(week, plain)) return plain;
  // A week may hide growth: what the weekdays leave may grow clearly.
  const growing = grows ? undefined : weekdayFit(recent, { of, weekday, grows: true });
  return growing && isClear(growing, week) && growing.leastOfWeekday >= LEAST_OF_A_WEEKDAY ? growing : week;
}

const isClear = (week: Fit, plain: Fit): boolean =>
  week.spread < Math.min(CLEAR_WEEK, 1 - CLEAR_OF_CHANCE / Math.sqrt(2 * Math.max(1, week.freedom))) * plain.spread;

function levelFit(points: readonly Point[]): Fit {
  const { center, spread } = robust(points.map((p) => p.y));
  const n = points.length;
  return {
    by: 'level',
    center,
    spread,
    freedom: n - 1,
    leverage: 1 / n,
    seen: reachOf(points.map((p) => p.y - center)),
  };
}

/** How far the past itself was from its fit. */
function reachOf(residuals: readonly number[]): Fit['seen'] {
  let [least, greatest] = [0, 0];
  for (const r of residuals) {
    if (r < least) least = r;
    if (r > greatest) greatest = r;
  }
  return { least, greatest };
}

/** A straight line, found again without what is far from the first one. @returns with its slope, in errors of the slope */
function lineFit(points: readonly Point[]): Fit & { readonly slope: number } {
  const n = points.length;
  let ys = points.map((p) => p.y);
  let line = leastSquares(points, ys);
  let spread = 0;
  let residuals: number[] = [];
  for (let pass = 0; pass < 2; pass++) {
    residuals = points.map((p) => p.y - (line.a + line.b * p.x));
    const found = robust(residuals);
    spread = found.spread * Math.sqrt((n - 1) / Math.max(1, n - 2));
    ys = points.map((p, i) => line.a + line.b * p.x + clamp(residuals[i]!, found.center, 3 * found.spread));
    line = leastSquares(points, ys);
  }
  return {
    by: 'growth',
    center: line.a,
    spread,
    freedom: n - 2,
    leverage: 1 / n + (line.meanX * line.meanX) / line.squaresX,
    seen: reachOf(residuals),
    slope: spread === 0 ? (line.b === 0 ? 0 : Infinity) : (Math.abs(line.b) * Math.sqrt(line.squaresX)) / spread,
  };
}

/** A level a weekday around a level or a line; the spread is that of all weekdays together. */
function weekdayFit(
  points: readonly Point[],
  { of, weekday, grows }: { readonly of: (p: Point) => number; readonly weekday: number; readonly grows: boolean },
): Fit & { readonly leastOfWeekday: number } {
  const n = points.length;
  let slope = 0;
  let levels = medians(points.map((p) => [of(p), p.y]));
  for (let pass = 0; grows && pass < 2; pass++) {
    // What the weekdays' levels leave grows; without the growth the levels are others.
    const left = points.map((p) => p.y - levels.get(of(p))!);
    slope = leastSquares(points, left).b;
    levels = medians(points.map((p) => [of(p), p.y - slope * p.x]));
  }
  // Levels by the mean of what is near their median: less uncertain, and as robust.
  const first = robust(points.map((p) => p.y - slope * p.x - levels.get(of(p))!));
  const means = new Map<number, { sum: number; n: number }>();
  for (const p of points) {
    const level = levels.get(of(p))!;
    const y = level + clamp(p.y - slope * p.x - level, 0, 3 * first.spread);
    const m = means.get(of(p)) ?? { sum: 0, n: 0 };
    means.set(of(p), { sum: m.sum + y, n: m.n + 1 });
  }
  const meanOf = (w: number) => means.get(w)!.sum / means.get(w)!.n;
  const parameters = means.size + (grows ? 1 : 0);
  const residuals = points.map((p) => p.y - slope * p.x - meanOf(of(p)));
  const meanX = points.reduce((s, p) => s + p.x, 0) / n;
  const squares = points.reduce((s, p) => s + (p.x - meanX) ** 2, 0);
  return {
    by: grows ? 'growth and weekday' : 'weekday',
    center: means.has(weekday) ? meanOf(weekday) : 0,
    spread: robust(residuals).spread * Math.sqrt((n - 1) / Math.max(1, n - parameters)),
    freedom: n - parameters,
    leverage: 1 / (means.get(weekday)?.n ?? 1) + (grows ? (meanX * meanX) / squares : 0),
    seen: reachOf(residuals.filter((_, i) => of(points[i]!) === weekday)),
    leastOfWeekday: means.get(weekday)?.n ?? 0,
  };
}

/** More than this share of values far out are no accidents. */
const MOST_ACCIDENTS = 0.1;

/** A center and a spread that few values far out do not move: mean and deviation of values drawn in to three spreads of the median. */
export function robust(values: readonly number[]): { center: number; spread: number } {
  const middle = median(values);
  const rough = 1.4826 * median(values.map((v) => Math.abs(v - middle)));
  const far = values.filter((v) => Math.abs(v - middle) > 3 * rough).length;
  // Where many are far out, as weekends are, they are no accidents but what there is of a spread.
  const reach = far <= MOST_ACCIDENTS * values.length ? 3 * rough : Infinity;
  const near = values.map((v) => clamp(v, middle, reach));
  const center = near.reduce((s, v) => s + v, 0) / near.length;
  const squares = near.reduce((s, v) => s + (v - center) ** 2, 0);
  return { center, spread: Math.sqrt(squares / Math.max(1, near.length - 1)) };
}

const clamp = (v: number, center: number, reach: number) => Math.min(center + reach, Math.max(center - reach, v));

export function median(values: readonly number[]): number {
  const sorted = Float64Array.from(values).sort();
  const half = sorted.length >> 1;
  return sorted.length % 2 === 1 ? sorted[half]! : (sorted[half - 1]! + sorted[half]!) / 2;
}

function medians(pairs: readonly (readonly [number, number])[]): Map<number, number> {
  const groups = new Map<number, number[]>();
  for (const [key, value] of pairs) {
    const of = groups.get(key);
    if (of) of.push(value);
    else groups.set(key, [value]);
  }
  return new Map([...groups].map(([key, of]) => [key, median(of)]));
}

function leastSquares(points: readonly Point[], ys: readonly number[]) {
  const n = points.length;
  const meanX = points.reduce((s, p) => s + p.x, 0) / n;
  const meanY = ys.reduce((s, y) => s + y, 0) / n;
  let squaresX = 0;
  let products = 0;
  for (const [i, { x }] of points.entries()) {
    squaresX += (x - meanX) ** 2;
    products += (x - meanX) * (ys[i]! - meanY);
  }
  const b = squaresX === 0 ? 0 : products / squaresX;
  return { a: meanY - b * meanX, b, meanX, squaresX: squaresX || 1 };
}

/** The deviation that is exceeded with a likelihood, by bisection. */
function quantile(likelihood: number, freedom: number): number {
  let [low, high] = [0, 1];
  while (twoSided(high, freedom) > likelihood && high < 1e9) high *= 2;
  for (let i = 0; i < 60; i++) {
    const middle = (low + high) / 2;
    if (twoSided(middle, freedom) > likelihood) low = middle;
    else high = middle;
  }
  return high;
}
