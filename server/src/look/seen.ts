import { Injectable } from '@nestjs/common';
import { PeopleService } from '../people/people.service.js';
import { lookingPerson } from '../warehouse/reader.service.js';

/** A person's looks at the same columns are one entry of the log for so long: paging through a table is one look. */
const ONE_LOOK_MILLISECONDS = 3_600_000;
/** Looks that are remembered, so as not to be written down again. */
const MOST_REMEMBERED = 10_000;

/** Writes down who looks at sensitive columns, and who takes rows out as files. */
@Injectable()
export class SeenService {
  private readonly written = new Map<string, number>();

  constructor(private readonly people: PeopleService) {}

  /** Writes down that the person who looks may see values of columns. @param columns by table */
  async columns(columns: ReadonlyMap<string, ReadonlySet<string>>): Promise<void> {
    const person = lookingPerson();
    if (person === undefined) return;
    for (const [table, names] of columns) {
      const sorted = [...names].sort();
      const key = JSON.stringify([person, table, sorted]);
      const now = Date.now();
      const last = this.written.get(key);
      if (last !== undefined && now >= last && now - last < ONE_LOOK_MILLISECONDS) continue;
      if (this.written.size >= MOST_REMEMBERED) this.written.clear();
      this.written.set(key, now);
      await this.people.audit(person, 'sensitive columns read', table, { columns: sorted });
    }
  }

  /** Writes down that rows leave as a file. @param subject a table, or the path of a query */
  exported(person: string, subject: string, detail: Readonly<Record<string, unknown>>): Promise<void> {
    return this.people.audit(person, 'rows exported', subject, detail);
  }
}
