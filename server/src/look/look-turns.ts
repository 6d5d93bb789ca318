import { Injectable } from '@nestjs/common';
import { mayAct } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { Problem } from '../shared/problem.js';
import { Turns } from '../shared/turns.js';
import { lookingAs } from '../warehouse/reader.service.js';

/** Previews, pages, profiles and exports that go on at a time, of all and of one person. */
const AT_A_TIME = 10;
const AT_A_TIME_OF_PERSON = 3;
const PATIENCE_MILLISECONDS = 5000;

const superseded = () => new Problem(409, 'superseded', 'Counting gave way to another query of yours', 'Count again.');

/** Shares the reader's connections among people, each under the role that theirs allows: nobody's slow queries keep the others waiting. */
@Injectable()
export class LookTurns {
  private readonly turns = new Turns(AT_A_TIME, AT_A_TIME_OF_PERSON, PATIENCE_MILLISECONDS);

  /** What each person has counted just now, the newest last. */
  private readonly counting = new Map<string, AbortController>();

  /**
   * A turn for counting: one at a time for a person, a newer one ends it. All turns taken, it gives way to the person's
   * next look.
   * @param signal of the person's leaving
   */
  async counts<T>(me: Person, signal: AbortSignal, count: (signal: AbortSignal) => Promise<T>): Promise<T> {
    if (signal.aborted) throw new Problem(499, 'stopped', 'The counting was stopped');
    this.counting.get(me.id)?.abort(superseded());
    const own = new AbortController();
    this.counting.set(me.id, own);
    try {
      return await this.of(me, () => count(AbortSignal.any([signal, own.signal])));
    } finally {
      if (this.counting.get(me.id) === own) this.counting.delete(me.id);
    }
  }

  /** @throws Problem 429 where no turn comes in time */
  async of<T>({ id, name, role }: Person, look: () => Promise<T>): Promise<T> {
    if (this.turns.going(id) >= AT_A_TIME_OF_PERSON) this.counting.get(id)?.abort(superseded());
    const end = await this.turns.turn(id);
    if (!end)
      throw new Problem(
        429,
        'too-many-looks',
        this.turns.going(id) >= AT_A_TIME_OF_PERSON
          ? `${AT_A_TIME_OF_PERSON} of your queries are still running`
          : 'The warehouse is at its limit of concurrent queries',
        'Wait for one to end or stop one, then try again.',
        { retryAfter: 5 },
      );
    try {
      return await lookingAs({ role: mayAct(role, 'editor') ? 'reader' : 'viewer', person: name }, look);
    } finally {
      end();
    }
  }
}
