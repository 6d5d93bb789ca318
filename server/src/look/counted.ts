import { createHash } from 'node:crypto';

/** Answers that are kept at most. */
const MOST = 5000;

/** What was counted, by the statement and the loads of what it reads; the longest unused goes first. */
export class Counted {
  private readonly answers = new Map<string, readonly number[]>();

  get(version: string, sql: string): readonly number[] | undefined {
    const key = keyOf(version, sql);
    const found = this.answers.get(key);
    if (found) {
      this.answers.delete(key);
      this.answers.set(key, found);
    }
    return found;
  }

  set(version: string, sql: string, values: readonly number[]): void {
    this.answers.set(keyOf(version, sql), values);
    if (this.answers.size > MOST) this.answers.delete(this.answers.keys().next().value!);
  }
}

const keyOf = (version: string, sql: string) =>
  createHash('sha256').update(version).update('\0').update(sql).digest('base64');
