/** How the values of a measure vary: by factors, as shares of a whole, or by differences. */
export type Scale = 'count' | 'share' | 'age' | 'number';

interface Transform {
  /** To where a value's noise is about the same whatever its size. */
  readonly to: (value: number) => number;
  readonly back: (y: number) => number;
  /** The least spread that is believed, in transformed units, at a center: a past without any spread is no promise. */
  readonly least: (center: number) => number;
}

/** Shares below half a percent are alike. */
const SHARE_OFFSET = 0.005;
/** Seconds below which ages are alike. */
const AGE_OFFSET = 3600;

export const SCALES: Readonly<Record<Scale, Transform>> = {
  count: { to: (v) => Math.log(v + 1), back: (y) => Math.exp(y) - 1, least: () => 0.02 },
  share: { to: (v) => Math.log(v + SHARE_OFFSET), back: (y) => Math.exp(y) - SHARE_OFFSET, least: () => 0.02 },
  /** Seconds. */
  age: { to: (v) => Math.log(v + AGE_OFFSET), back: (y) => Math.exp(y) - AGE_OFFSET, least: () => 0.05 },
  number: { to: (v) => v, back: (y) => y, least: (center) => 0.02 * Math.abs(center) },
};
