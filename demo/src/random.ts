/** A small seeded generator (mulberry32): the same seed gives the same numbers everywhere. */
export interface Random {
  /** In [0, 1). */
  next(): number;
  /** A whole number from `low` to `high`, both included. */
  int(low: number, high: number): number;
  pick<T>(items: readonly T[]): T;
  chance(probability: number): boolean;
}

export function random(seed: number): Random {
  let state = seed >>> 0;
  const next = () => {
    state = (state + 0x6d2b79f5) >>> 0;
    let t = state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  };
  const int = (low: number, high: number) => low + Math.floor(next() * (high - low + 1));
  return { next, int, pick: (items) => items[int(0, items.length - 1)]!, chance: (p) => next() < p };
}

/** A generator of its own for each day and purpose, so that one day's draws never shift another's. */
export function randomOf(seed: number, day: number, purpose: number): Random {
  return random(Math.imul(seed, 0x9e3779b1) ^ Math.imul(day + 1, 0x85ebca6b) ^ Math.imul(purpose + 1, 0xc2b2ae35));
}
