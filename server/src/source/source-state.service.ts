import type { Lateness } from '@ouvrage/api/source';
import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { Drift } from '@ouvrage/core/intake';
import type { SourceTable } from '@ouvrage/core/model';
import { ageWords, instantOfWatermark, usualWait, type Wait, waitDay, waited } from '@ouvrage/core/watch';
import { Repository } from 'typeorm';
import { ClockService } from '../run/clock.service.js';
import { SourceState } from './source.entities.js';
import { PRODUCTION } from '../project/branches.js';
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

  /** Remembers what an intake brought; in production also how long newer rows had been waited for. */
  async broughtIn(environment: string, table: string, newest: string | null): Promise<void> {
    const before = await this.states.findOneBy({ environment, table });
    const waits =
      before && environment === PRODUCTION ? { waits: (await this.waitsAfter(before, newest)) as never } : {};
    await this.states.upsert({ environment, table, newest, broughtInAt: await this.now(), ...waits }, [
      'environment',
      'table',
    ]);
  }

  private async waitsAfter(
    { newest: was, broughtInAt, waits }: SourceState,
    newest: string | null,
  ): Promise<readonly Wait[]> {
    if (!broughtInAt || (newest !== null && newest === was)) return waits;
    const now = await this.now();
    const since = instantOfWatermark(was ?? '') ?? broughtInAt;
    return waited(waits, { day: waitDay(now), value: Math.max(0, (now.getTime() - since.getTime()) / 1000) });
  }

  private async now(): Promise<Date> {
    return (await this.clock.harbour()) ?? currentTime();
  }

  /** Lateness of the tables that declare how late they may be, and of those whose past shows how late they usually are. */
  async lateness(environment: string, tables: readonly SourceTable[]): Promise<Map<string, Lateness>> {
    const [states, now] = [await this.of(environment), await this.now()];
    const asked = tables.flatMap((table): Asked[] => {
      const declared = table.contract.options.get('late_after')?.value;
      if (declared !== undefined) return [{ table, allowed: declared, learnedFrom: null }];
      const usual = usualWait(states.get(table.fullName)?.waits ?? [], waitDay(now));
      return usual ? [{ table, allowed: ageWords(usual.seconds), learnedFrom: usual.from }] : [];
    });
    if (asked.length === 0) return new Map();
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
      asked.map(({ table, allowed, learnedFrom }, i) => [
        table.fullName,
        { ...rows[i]!, since: since[i] ?? null, allowed, learnedFrom },
      ]),
    );
  }
}

/** A table and how old its newest row may be. */
type Asked = Pick<Lateness, 'allowed' | 'learnedFrom'> & { readonly table: SourceTable };

const INSTANT = /^(date|timestamp|timestamptz)\b/;

function instantOf(table: SourceTable, state: SourceState | undefined): string | null {
  const watermark = table.contract.options.get('watermark')?.value;
  const type = table.contract.columns.find((c) => c.name === watermark)?.type;
  if (type !== undefined && INSTANT.test(type) && state?.newest) return state.newest;
  return state?.broughtInAt?.toISOString() ?? null;
}
