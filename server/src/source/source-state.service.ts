import type { Lateness } from '@ouvrage/api/source';
import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { Drift } from '@ouvrage/core/intake';
import type { SourceTable } from '@ouvrage/core/model';
import { Repository } from 'typeorm';
import { ClockService } from '../run/clock.service.js';
import { SourceState } from './source.entities.js';
import { currentTime } from '../shared/time.js';

/** What is known of source tables between intakes: drift, the newest watermark, lateness. */
@Injectable()
export class SourceStateService {
  constructor(
    @InjectRepository(SourceState) private readonly states: Repository<SourceState>,
    private readonly clock: ClockService,
  ) {}

  async of(environment: string): Promise<Map<string, SourceState>> {
    return new Map((await this.states.findBy({ environment })).map((s) => [s.table, s]));
  }

  async compared(environment: string, table: string, drift: Drift | null): Promise<void> {
    await this.states.upsert({ environment, table, drift: drift as never, comparedAt: currentTime() }, [
      'environment',
      'table',
    ]);
  }

  async broughtIn(environment: string, table: string, newest: string | null): Promise<void> {
    await this.states.upsert({ environment, table, newest, broughtInAt: currentTime() }, ['environment', 'table']);
  }

  /** Lateness of the tables that declare how late they may be. */
  async lateness(environment: string, tables: readonly SourceTable[]): Promise<Map<string, Lateness>> {
    const asked = tables.flatMap((t) => {
      const allowed = t.contract.options.get('late_after')?.value;
      return allowed === undefined ? [] : [{ table: t, allowed }];
    });
    if (asked.length === 0) return new Map();
    const states = await this.of(environment);
    const now = (await this.clock.harbour()) ?? currentTime();
    const since = asked.map(({ table }) => instantOf(table, states.get(table.fullName)));
    // Intervals are PostgreSQL's own: months have their length, and what is no interval is told as such.
    const rows: { late: boolean; age: number | null; seconds: number }[] = await this.states.query(
      `select coalesce(since + allowed::interval < $3::timestamptz, true) as late,
              extract(epoch from $3::timestamptz - since)::double precision as age,
              extract(epoch from $3::timestamptz - ($3::timestamptz - allowed::interval))::double precision as seconds
       from unnest($1::timestamptz[], $2::text[]) with ordinality as a (since, allowed, n) order by n`,
      [since, asked.map((a) => a.allowed), now],
    );
    return new Map(
      asked.map(({ table, allowed }, i) => [
        table.fullName,
        { late: rows[i]!.late, since: since[i] ?? null, allowed, age: rows[i]!.age, seconds: rows[i]!.seconds },
      ]),
    );
  }
}

const INSTANT = /^(date|timestamp|timestamptz)\b/;

function instantOf(table: SourceTable, state: SourceState | undefined): string | null {
  const watermark = table.contract.options.get('watermark')?.value;
  const type = table.contract.columns.find((c) => c.name === watermark)?.type;
  if (type !== undefined && INSTANT.test(type) && state?.newest) return state.newest;
  return state?.broughtInAt?.toISOString() ?? null;
}
