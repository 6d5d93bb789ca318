import { sensitiveOf } from '@ouvrage/core/lineage';
import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { targetPlace } from '@ouvrage/core/load';
import type { Place } from '@ouvrage/core/model';
import type pg from 'pg';
import { Repository } from 'typeorm';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { notFound } from '../shared/problem.js';
import { mayAct } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { lookingAs, ReaderService } from '../warehouse/reader.service.js';
import { cursorOf, shownRows, type ShownRows } from '../warehouse/shown-rows.js';
import { Delivery, type DeliveryState } from './delivery.entities.js';
import { isThere, rejectsPlace, rejectsQuery } from './rejects.js';

const PAGE = 50;

export interface DeliverySearch {
  /** Part of a file's name, a table's name or a reason. */
  readonly text?: string | undefined;
  readonly state?: DeliveryState | undefined;
  /** Those before this one. */
  readonly before?: number | undefined;
}

const REJECTS_SHOWN = 200;
const BATCH = 1000;

async function* batchesOf(
  client: pg.ClientBase,
  asked: { readonly sql: string; readonly values: readonly string[] },
): AsyncGenerator<(string | null)[][]> {
  const cursor = cursorOf(client, asked);
  for (let rows = await cursor.read(BATCH); rows.length; rows = await cursor.read(BATCH)) yield rows;
  await cursor.close();
}

async function* none(): AsyncGenerator<(string | null)[][]> {
  yield [];
}

/** All files that ever came, to be found again, with what was set aside of each. */
@Injectable()
export class DeliveryListService {
  constructor(
    @InjectRepository(Delivery) private readonly deliveries: Repository<Delivery>,
    private readonly projects: ProjectService,
    private readonly reader: ReaderService,
  ) {}

  /** Newest first, a page; `more` says whether there are earlier ones. */
  async search({ text, state, before }: DeliverySearch): Promise<{ files: Delivery[]; more: boolean }> {
    const query = this.deliveries
      .createQueryBuilder('d')
      .orderBy('d.id', 'DESC')
      .take(PAGE + 1);
    if (text)
      query.andWhere(
        '(position(lower(:text) in lower(d.file)) > 0 or position(lower(:text) in lower(d.table)) > 0 or position(lower(:text) in lower(d.reason)) > 0)',
        { text },
      );
    if (state) query.andWhere('d.state = :state', { state });
    if (before !== undefined) query.andWhere('d.id < :before', { before });
    const files = await query.getMany();
    return { files: files.slice(0, PAGE), more: files.length > PAGE };
  }

  /** Files that could not be loaded, of which no later one of the same name was: newest first. */
  failed(): Promise<Delivery[]> {
    return this.deliveries
      .createQueryBuilder('d')
      .where(`d.state in ('failed', 'unknown')`)
      .andWhere(`not exists (select from delivery l where l.file = d.file and l.id > d.id)`)
      .orderBy('d.id', 'DESC')
      .take(50)
      .getMany();
  }

  async one(id: number): Promise<Delivery> {
    const found = await this.deliveries.findOneBy({ id });
    if (!found) throw notFound(`The delivery ${id}`);
    return found;
  }

  /** Rows of a file that were set aside: line, column, value and reason. */
  async rejects(delivery: Delivery, me: Person, signal: AbortSignal): Promise<Pick<ShownRows, 'rows' | 'isFull'>> {
    const asked = await this.asked(delivery, me);
    if (!asked) return { rows: [], isFull: false };
    return lookingAs({ role: 'reader', person: me.name }, () =>
      this.reader.read(signal, async (client) => {
        if (!(await isThere(client, asked.place))) return { rows: [], isFull: false };
        const { rows, isFull } = await shownRows(client, asked, REJECTS_SHOWN + 1);
        return { rows: rows.slice(0, REJECTS_SHOWN), isFull: isFull || rows.length > REJECTS_SHOWN };
      }),
    );
  }

  /** All of them, in batches. @param write is given the batches, and ends before the connection is given back */
  async eachReject(
    delivery: Delivery,
    { me, signal }: { readonly me: Person; readonly signal: AbortSignal },
    write: (batches: AsyncIterable<(string | null)[][]>) => Promise<void>,
  ): Promise<void> {
    const asked = await this.asked(delivery, me);
    await lookingAs({ role: 'reader', person: me.name }, () =>
      this.reader.read(signal, async (client) => {
        const isKept = asked !== undefined && (await isThere(client, asked.place));
        await write(isKept ? batchesOf(client, asked) : none());
      }),
    );
  }

  private async asked(
    { file, digest, table }: Delivery,
    me: Person,
  ): Promise<{ place: Place; sql: string; values: string[] } | undefined> {
    const landing = await this.landing(table);
    if (!landing) return undefined;
    const { project } = await this.projects.line(PRODUCTION);
    const hidden = mayAct(me.role, 'editor') ? [] : [...sensitiveOf(project, table!).keys()];
    return { place: rejectsPlace(landing), sql: rejectsQuery(landing, hidden), values: [file, digest] };
  }

  private async landing(table: string | null): Promise<Place | undefined> {
    const { project } = await this.projects.line(PRODUCTION);
    const found = table === null ? undefined : project.tables.get(table);
    return found && targetPlace(this.projects.environmentOf(undefined), found);
  }
}
