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
  const known = past.slice(-WINDOW);
  const points: Points = {
    xs: known.map((m) => m.day - day),
    ys: known.map((m) => to(m.value)),
    weekdays: known.map((m) => weekdayOf(m.day)),
  };
  const fit = fitOf(points, weekdayOf(day));
  const spread = Math.max(fit.spread, least(fit.center), error) * Math.sqrt(1 + fit.leverage);
  const freedom = Math.max(1, fit.freedom);
  return {
    by: fit.by,
    from: known.length,
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

/** Values over days, transformed by their scale. */
interface Points {
  /** Days from the day that is asked about: below 0. */
  readonly xs: readonly number[];
  readonly ys: readonly number[];
  /** Their weekdays, 0 to 6. */
  readonly weekdays: readonly number[];
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

const weekdayOf = (day: number): number => ((day % DAYS_A_WEEK) + DAYS_A_WEEK) % DAYS_A_WEEK;
const DAYS_A_WEEK = 7;

/** A line is growth where its slope is so many times its own error. */
const CLEAR_SLOPE = 4;
/** Weekdays are told apart where that leaves so much of the spread, and less than chance leaves of it in few values: so many deviations of a spread's own error. */
const CLEAR_WEEK = 0.8;
const CLEAR_OF_CHANCE = 4;

/** The simplest fit that explains the past. */
function fitOf(points: Points, weekday: number): Fit {
  const recent = newest(points, GROWTH_WINDOW);
  const line = lineFit(recent);
  const grows = line.slope > CLEAR_SLOPE;
  const plain = grows ? line : levelFit(points);
  const among = grows ? recent : points;
  const seen = new Array<number>(DAYS_A_WEEK).fill(0);
  for (const w of among.weekdays) seen[w]!++;
  const different = seen.filter((n) => n > 0).length;
  if (different < 2 || seen[weekday]! < LEAST_OF_A_WEEKDAY || among.xs.length < 3 * different) return plain;
  const week = weekdayFit(among, weekday, grows);
  if (!isClear(week, plain)) return plain;
  // A week may hide growth: what the weekdays leave may grow clearly.
  const growing = grows ? undefined : weekdayFit(recent, weekday, true);
  return growing && isClear(growing, week) && growing.leastOfWeekday >= LEAST_OF_A_WEEKDAY ? growing : week;
}

const newest = ({ xs, ys, weekdays }: Points, n: number): Points => ({
  xs: xs.slice(-n),
  ys: ys.slice(-n),
  weekdays: weekdays.slice(-n),
});

const isClear = (week: Fit, plain: Fit): boolean =>
  week.spread < Math.min(CLEAR_WEEK, 1 - CLEAR_OF_CHANCE / Math.sqrt(2 * Math.max(1, week.freedom))) * plain.spread;

function levelFit({ ys }: Points): Fit {
  const { center, spread } = robust(ys);
  const n = ys.length;
  return { by: 'level', center, spread, freedom: n - 1, leverage: 1 / n, seen: reachOf(ys.map((y) => y - center)) };
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
function lineFit({ xs, ys: values }: Points): Fit & { readonly slope: number } {
  const n = xs.length;
  let line = leastSquares(xs, values);
  let spread = 0;
  let residuals: number[] = [];
  for (let pass = 0; pass < 2; pass++) {
    const { a, b } = line;
    residuals = values.map((y, i) => y - (a + b * xs[i]!));
    const found = robust(residuals);
    spread = found.spread * Math.sqrt((n - 1) / Math.max(1, n - 2));
    line = leastSquares(
      xs,
      residuals.map((r, i) => a + b * xs[i]! + clamp(r, found.center, 3 * found.spread)),
    );
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
  { xs, ys, weekdays }: Points,
  weekday: number,
  grows: boolean,
): Fit & { readonly leastOfWeekday: number } {
  const n = xs.length;
  let slope = 0;
  let levels = medians(weekdays, ys);
  for (let pass = 0; grows && pass < 2; pass++) {
    // What the weekdays' levels leave grows; without the growth the levels are others.
    const known = levels;
    slope = leastSquares(
      xs,
      ys.map((y, i) => y - known[weekdays[i]!]!),
    ).b;
    const b = slope;
    levels = medians(
      weekdays,
      ys.map((y, i) => y - b * xs[i]!),
    );
  }
  // Levels by the mean of what is near their median: less uncertain, and as robust.
  const off = ys.map((y, i) => y - slope * xs[i]! - levels[weekdays[i]!]!);
  const reach = 3 * robust(off).spread;
  const sums = new Array<number>(DAYS_A_WEEK).fill(0);
  const counts = new Array<number>(DAYS_A_WEEK).fill(0);
  for (let i = 0; i < n; i++) {
    const w = weekdays[i]!;
    sums[w]! += levels[w]! + clamp(off[i]!, 0, reach);
    counts[w]!++;
  }
  const means = sums.map((sum, w) => sum / counts[w]!);
  const parameters = counts.filter((c) => c > 0).length + (grows ? 1 : 0);
  const residuals = ys.map((y, i) => y - slope * xs[i]! - means[weekdays[i]!]!);
  const meanX = sum(xs) / n;
  const squares = sum(xs.map((x) => (x - meanX) ** 2));
  const ofWeekday = counts[weekday]!;
  return {
    by: grows ? 'growth and weekday' : 'weekday',
    center: ofWeekday > 0 ? means[weekday]! : 0,
    spread: robust(residuals).spread * Math.sqrt((n - 1) / Math.max(1, n - parameters)),
    freedom: n - parameters,
    leverage: 1 / Math.max(1, ofWeekday) + (grows ? (meanX * meanX) / squares : 0),
    seen: reachOf(residuals.filter((_, i) => weekdays[i] === weekday)),
    leastOfWeekday: ofWeekday,
  };
}

/** More than this share of values far out are no accidents. */
const MOST_ACCIDENTS = 0.1;

/** A center and a spread that few values far out do not move: mean and deviation of values drawn in to three spreads of the median. */
export function robust(values: readonly number[]): { center: number; spread: number } {
  const middle = median(values);
  const distances = values.map((v) => Math.abs(v - middle));
  const rough = 1.4826 * median(distances);
  const far = distances.filter((d) => d > 3 * rough).length;
  // Where many are far out, as weekends are, they are no accidents but what there is of a spread.
  const reach = far <= MOST_ACCIDENTS * values.length ? 3 * rough : Infinity;
  const near = values.map((v) => clamp(v, middle, reach));
  const center = sum(near) / near.length;
  const squares = sum(near.map((v) => (v - center) ** 2));
  return { center, spread: Math.sqrt(squares / Math.max(1, near.length - 1)) };
}

const clamp = (v: number, center: number, reach: number): number =>
  v > center + reach ? center + reach : v < center - reach ? center - reach : v;

function sum(values: readonly number[]): number {
  let s = 0;
  for (let i = 0; i < values.length; i++) s += values[i]!;
  return s;
}

/** The middle value, or the mean of the two middle ones: found by Hoare's selection, as sorting for it takes most of the learning's time. */
export function median(values: readonly number[]): number {
  const of = values.slice();
  const half = of.length >> 1;
  const upper = select(of, half);
  if (of.length % 2 === 1) return upper;
  let lower = -Infinity;
  for (let i = 0; i < half; i++) if (of[i]! > lower) lower = of[i]!;
  return (lower + upper) / 2;
}

/** Moves values so that the one at `k` has none greater before it and none less behind it. @returns that one */
function select(values: number[], k: number): number {
  let [low, high] = [0, values.length - 1];
  while (low < high) {
    const pivot = values[(low + high) >> 1]!;
    let [i, j] = [low, high];
    while (i <= j) {
      while (values[i]! < pivot) i++;
      while (values[j]! > pivot) j--;
      if (i <= j) {
        const v = values[i]!;
        values[i++] = values[j]!;
        values[j--] = v;
      }
    }
    if (k <= j) high = j;
    else if (k >= i) low = i;
    else break;
  }
  return values[k]!;
}

/** The median of each weekday's values; of a weekday without any it is not a number. */
const medians = (weekdays: readonly number[], ys: readonly number[]): number[] =>
  Array.from({ length: DAYS_A_WEEK }, (_, w) => {
    const of = ys.filter((_y, i) => weekdays[i] === w);
    return of.length ? median(of) : NaN;
  });

function leastSquares(xs: readonly number[], ys: readonly number[]) {
  const n = xs.length;
  const meanX = sum(xs) / n;
  const meanY = sum(ys) / n;
  let squaresX = 0;
  let products = 0;
  for (let i = 0; i < n; i++) {
    const x = xs[i]! - meanX;
    squaresX += x * x;
    products += x * (ys[i]! - meanY);
  }
  const b = squaresX === 0 ? 0 : products / squaresX;
  return { a: meanY - b * meanX, b, meanX, squaresX: squaresX || 1 };
}

/** The deviation that is exceeded with a likelihood, by bisection to nine digits. */
function quantile(likelihood: number, freedom: number): number {
  let [low, high] = [0, 1];
  while (twoSided(high, freedom) > likelihood && high < 1e9) [low, high] = [high, high * 2];
  while (high - low > 1e-9 * high) {
    const middle = (low + high) / 2;
    if (twoSided(middle, freedom) > likelihood) low = middle;
    else high = middle;
  }
  return high;
}
