/** Lets a few pieces of work go on at a time, in all and for each key; others wait in their order. */
export class Turns {
  private inAll = 0;
  private readonly ofKey = new Map<string, number>();
  private waiting: { readonly key: string; readonly start: () => void }[] = [];

  /**
   * @param most at a time, in all
   * @param mostOfKey at a time for one key
   * @param patience milliseconds that one waits
   */
  constructor(
    private readonly most: number,
    private readonly mostOfKey: number,
    private readonly patience: number,
  ) {}

  /** Waits for a turn. @returns what ends it, to be called once; undefined where none was to be had in time */
  async turn(key: string): Promise<(() => void) | undefined> {
    if (!this.isFree(key)) {
      const came = await new Promise<boolean>((resolve) => {
        const entry = { key, start: () => (clearTimeout(timer), resolve(true)) };
        const timer = setTimeout(() => {
          this.waiting = this.waiting.filter((w) => w !== entry);
          resolve(false);
        }, this.patience);
        this.waiting.push(entry);
      });
      if (!came) return undefined;
    } else this.take(key);
    let ended = false;
    return () => {
      if (ended) return;
      ended = true;
      this.give(key);
    };
  }

  /** Turns of a key that go on. */
  going(key: string): number {
    return this.ofKey.get(key) ?? 0;
  }

  private isFree(key: string): boolean {
    return this.inAll < this.most && (this.ofKey.get(key) ?? 0) < this.mostOfKey;
  }

  private take(key: string): void {
    this.inAll++;
    this.ofKey.set(key, (this.ofKey.get(key) ?? 0) + 1);
  }

  private give(key: string): void {
    this.inAll--;
    const left = this.ofKey.get(key)! - 1;
    if (left === 0) this.ofKey.delete(key);
    else this.ofKey.set(key, left);
    const next = this.waiting.findIndex((w) => this.isFree(w.key));
    if (next < 0) return;
    const [entry] = this.waiting.splice(next, 1);
    this.take(entry!.key);
    entry!.start();
  }
}
