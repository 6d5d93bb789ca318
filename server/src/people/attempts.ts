/** Counts attempts in a sliding window, to slow down guessing. */
export class Attempts {
  private readonly times = new Map<string, number[]>();

  constructor(
    private readonly most: number,
    private readonly windowMilliseconds: number,
    private readonly now: () => number = Date.now,
  ) {}

  /** Counts one more attempt. @returns seconds to wait, 0 when the attempt may go on */
  count(key: string): number {
    const since = this.now() - this.windowMilliseconds;
    const recent = (this.times.get(key) ?? []).filter((t) => t > since);
    if (recent.length >= this.most) return Math.max(1, Math.ceil((recent[0]! - since) / 1000));
    recent.push(this.now());
    this.times.set(key, recent);
    if (this.times.size > 10_000) for (const [k, list] of this.times) if ((list.at(-1) ?? 0) <= since) this.times.delete(k);
    return 0;
  }

  forget(key: string): void {
    this.times.delete(key);
  }
}
