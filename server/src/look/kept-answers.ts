import { createHash } from 'node:crypto';

/** Answers that are kept, by the statement and the loads of what it reads; the longest unused goes first. */
export class KeptAnswers<T> {
  private readonly answers = new Map<string, T>();

  /** @param most answers that are kept */
  constructor(private readonly most: number) {}

  get(version: string, sql: string): T | undefined {
    const key = keyOf(version, sql);
    const found = this.answers.get(key);
    if (found !== undefined) {
      this.answers.delete(key);
      this.answers.set(key, found);
    }
    return found;
  }

  set(version: string, sql: string, answer: T): void {
    this.answers.set(keyOf(version, sql), answer);
    if (this.answers.size > this.most) this.answers.delete(this.answers.keys().next().value!);
  }

  /** What is kept, or what is asked for now and then kept. @param version undefined where nothing tells later rows apart */
  async of(version: string | undefined, sql: string, ask: () => Promise<T>): Promise<T> {
    const kept = version === undefined ? undefined : this.get(version, sql);
    if (kept !== undefined) return kept;
    const found = await ask();
    if (version !== undefined) this.set(version, sql, found);
    return found;
  }
}

const keyOf = (version: string, sql: string) =>
  createHash('sha256').update(version).update('\0').update(sql).digest('base64');
