import { Injectable } from '@nestjs/common';
import { randomUUID } from 'node:crypto';
import { notFound } from '../shared/problem.js';
import type { ExportFormat } from './export-formats.js';
import type { PreviewAsked } from './preview.service.js';

/** A query whose rows somebody wants as a file. */
export interface ExportAsked extends Omit<PreviewAsked, 'limit'> {
  readonly person: string;
  readonly slug: string;
  readonly format: ExportFormat;
}

const LIFE_MILLISECONDS = 60_000;
/** Texts may be long: so many of one person wait at most. */
const MOST_OF_PERSON = 3;

/** Keeps what is to be exported until the browser fetches it: a file that is saved can have no text in its address. */
@Injectable()
export class ExportTickets {
  private readonly waiting = new Map<string, { readonly asked: ExportAsked; readonly until: number }>();

  keep(asked: ExportAsked): string {
    const id = randomUUID();
    this.waiting.set(id, { asked, until: Date.now() + LIFE_MILLISECONDS });
    const own = [...this.waiting].filter(([, w]) => w.asked.person === asked.person);
    for (const [old] of own.slice(0, -MOST_OF_PERSON)) this.waiting.delete(old);
    for (const [old, { until }] of this.waiting) if (until < Date.now()) this.waiting.delete(old);
    return id;
  }

  /** @throws Problem 404 where it is another person's, was fetched before, or has waited too long */
  take(id: string, person: string, slug: string): ExportAsked {
    const found = this.waiting.get(id);
    if (!found || found.asked.person !== person || found.asked.slug !== slug || found.until < Date.now())
      throw notFound('The export');
    this.waiting.delete(id);
    return found.asked;
  }
}
