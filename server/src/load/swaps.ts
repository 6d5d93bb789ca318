import type { LoadStatement } from '@ouvrage/core/compile';
import {
  keptFromOld,
  planReplaceInPlace,
  planSwap,
  type Attached,
  type Blocker,
  type Dependent,
  type KeptIn,
  type LoadPlan,
  type OldRelation,
  type SwapItem,
} from '@ouvrage/core/load';
import type { Place } from '@ouvrage/core/model';
import { qualified } from '@ouvrage/core/sql';
import type pg from 'pg';
import { ROLES } from '../shared/config.js';
import { answersTo, planCatalog, questions } from '../warehouse/catalog-questions.js';
import { codeOf, StatementFailed, SwapBlocked } from '../warehouse/load-errors.js';
import type { Statements } from '../warehouse/statements.js';

const LOCK_TIMEOUT = '3s';
const ATTEMPTS = 20;
/** What is to be dropped has come to be read since the catalog was asked. */
const READ_BY_OTHERS = '2BP01';
/** Someone has cancelled the statement. */
const STOPPED = '57014';
const LOCK_NOT_HAD = ['55P03', '40P01'];
/** What comes before the questions of a swap. */
const OPENING = ['savepoint before_swap', `set local lock_timeout = '${LOCK_TIMEOUT}'`];

/** Questions that tell what is in the places of a swap. */
const STANDING = ['old_relations', 'dependents'] as const;

/** What is in the places of a swap. */
interface Standing {
  readonly old: readonly OldRelation[];
  readonly dependents: readonly Dependent[];
}

/** Tables that go without a successor, and where tables that are replaced or go are kept; they are dropped where none is told. */
export interface Going {
  readonly dropped?: readonly Place[];
  readonly keptIn?: KeptIn;
}

/** What is in the places of a swap, for where it cannot be done by renaming. */
interface InPlace {
  readonly old: readonly OldRelation[];
  readonly keptIn: KeptIn | undefined;
}

/** Finishes what was made beside and moves it into place, on one connection, in the caller's transaction. */
export class Swaps {
  /** Dependents that swaps have dropped and not made again: for who owns them, once the transaction is committed. */
  readonly gone: Dependent[] = [];
  private readonly opening: readonly string[];

  /** @param lock a statement that holds the lock of swaps, where there is one */
  constructor(
    private readonly statements: Statements,
    lock: string | undefined,
  ) {
    this.opening = lock === undefined ? OPENING : [...OPENING, lock];
  }

  /** What was found of a table that was finished together with its checks. */
  private found: Standing | undefined;

  /** Constraints, indexes, comments and grants beside, and what was made by hand on the old table. */
  async finishStaged(plan: LoadPlan): Promise<void> {
    for (const statement of plan.finish) await this.statements.run(statement);
    await this.keepOld(
      plan,
      await this.oldRelations([plan.target, plan.staged, ...(plan.formerly ? [plan.formerly] : [])]),
    );
  }

  /**
   * Asks a question of the table beside and finishes it in the same message, with what a swap has to know. Where
   * something of that fails, it is taken back, and the question is asked alone.
   * @returns what the question gave
   */
  async askAndFinish(question: string, plan: LoadPlan): Promise<pg.QueryResult> {
    const { statements } = this;
    const asks = this.asks([plan], [], plan);
    await planCatalog(statements.client);
    const before = statements.ran.length;
    statements.savepoint('before_question');
    try {
      const answers = await statements.together(
        [{ kind: 'check', sql: question }, ...plan.finish],
        [...this.opening, ...asks],
      );
      this.found = standing(answers);
      return answers.at(-this.opening.length - asks.length - plan.finish.length - 1)!;
    } catch (error) {
      if (!(error instanceof StatementFailed) || codeOf(error) === STOPPED) throw error;
      await statements.client.query('rollback to savepoint before_question').catch(() => {
        throw error;
      });
      statements.ran.length = before;
      return statements.plain('check', question);
    }
  }

  /** What was made by hand on the old table is made on the one beside. */
  private async keepOld(plan: LoadPlan, found: readonly OldRelation[]): Promise<void> {
    const at = (place: Place | undefined) => found.find((r) => r.schema === place?.schema && r.name === place.name);
    const [old, fresh] = [at(plan.target) ?? at(plan.formerly), at(plan.staged)];
    if (!old?.ours || !fresh) return;
    const kept = keptFromOld(plan, old, {
      columns: fresh.columns.map((c) => c.name),
      indexes: fresh.indexes.map((i) => i.name),
      commented: fresh.column_comments.map((c) => c.column),
      comment: fresh.comment !== null,
    });
    for (const sql of kept) await this.statements.plain('index', sql);
  }

  async oldRelations(places: readonly Place[]): Promise<OldRelation[]> {
    if (places.length === 0) return [];
    await planCatalog(this.statements.client);
    const answers = await this.statements.send(questions(['old_relations'], places).join(';\n'));
    return answersTo(['old_relations'], answers)[0] as OldRelation[];
  }

  /** True when the view beside is the view in place to the letter, comments included. */
  async sameView(plan: LoadPlan): Promise<boolean> {
    const { rows } = await this.statements.client.query<{ same: boolean }>(
      `select pg_get_viewdef(a.oid) = pg_get_viewdef(b.oid)
         and obj_description(a.oid, 'pg_class') is not distinct from obj_description(b.oid, 'pg_class')
         and (select array_agg((objsubid, description) order by objsubid) from pg_description where objoid = a.oid and classoid = 'pg_class'::regclass)
           is not distinct from (select array_agg((objsubid, description) order by objsubid) from pg_description where objoid = b.oid and classoid = 'pg_class'::regclass) as same
       from pg_class a, pg_class b where a.oid = to_regclass($1) and b.oid = to_regclass($2) and a.relkind = 'v' and b.relkind = 'v'`,
      [qualified(plan.target), qualified(plan.staged)],
    );
    return rows[0]?.same ?? false;
  }

  async dropStaged(plan: LoadPlan): Promise<void> {
    await this.statements.plain('swap', `drop ${plan.relation} ${qualified(plan.staged)}`);
  }

  /**
   * Moves what was made beside into place. One swap at a time; a lock that cannot be had in time is
   * given back and asked for again, so that readers never queue behind a waiting swap for long.
   * @param items in dependency order
   * @param goes places of tables that go without a successor, and where what is replaced or goes is kept
   */
  async swap(items: readonly SwapItem[], goes: Going = {}): Promise<void> {
    await this.swapFinished(items, goes, []);
  }

  /**
   * Finishes a table beside and moves it into place, as `finishStaged` and `swap` do.
   * @param together whether people do not want to know how long each statement took: it is finished in one message
   * @param closing statements that end the transaction once all is in place
   */
  async finishAndSwap(
    plan: LoadPlan,
    { together, closing }: { readonly together: boolean; readonly closing: readonly string[] },
  ): Promise<void> {
    if (!together) await this.finishStaged(plan);
    await this.swapFinished([plan], {}, closing, together ? plan : undefined);
  }

  /** @param finishing a table that is to be finished in the message that asks for the lock, unless it is finished */
  private async swapFinished(
    items: readonly SwapItem[],
    goes: Going,
    closing: readonly string[],
    finishing?: LoadPlan,
  ): Promise<void> {
    await planCatalog(this.statements.client);
    for (let attempt = 1; ; attempt++) {
      try {
        return await this.swapOnce(items, goes, { closing, attempt, finishing });
      } catch (error) {
        const again = attempt === 1 ? [...LOCK_NOT_HAD, READ_BY_OTHERS] : LOCK_NOT_HAD;
        if (!again.includes(codeOf(error) ?? '') || attempt >= ATTEMPTS) throw error;
        await this.statements.client.query('rollback to savepoint before_swap').catch(() => {
          throw error;
        });
        await new Promise((resolve) => setTimeout(resolve, 50 * attempt));
      }
    }
  }

  private async swapOnce(
    items: readonly SwapItem[],
    { dropped = [], keptIn }: Going,
    {
      closing,
      attempt,
      finishing,
    }: {
      readonly closing: readonly string[];
      readonly attempt: number;
      readonly finishing: LoadPlan | undefined;
    },
  ): Promise<void> {
    const { statements } = this;
    const finish = attempt === 1 && finishing ? finishing.finish : [];
    const found =
      this.found ??
      standing(await statements.together(finish, [...this.opening, ...this.asks(items, dropped, finishing)]));
    this.found = undefined;
    if (finishing) await this.keepOld(finishing, found.old);
    const plan = planSwap(items, found.old, found.dependents, {
      dropped,
      goes: ofWorkspaces,
      regranted: [ROLES.viewer],
      ...(keptIn ? { keptIn } : {}),
    });
    const inPlace: InPlace = { old: found.old, keptIn };
    if (plan.blockedBy) {
      await this.replaceInPlace(items, inPlace, plan.blockedBy);
      await statements.conclude(closing);
    } else {
      const swap = { kind: 'swap', sql: [...plan.statements, 'set local lock_timeout = 0'].join(';\n') } as const;
      if (plan.attached.length === 0) await statements.together([swap], closing);
      else await this.swapWithAttached(items, inPlace, { swap, attached: plan.attached, closing });
      this.gone.push(...plan.gone);
    }
  }

  /** Moves tables into place and makes again what others attached to them; where that fails, the rows are replaced and the tables stay. */
  private async swapWithAttached(
    items: readonly SwapItem[],
    inPlace: InPlace,
    {
      swap,
      attached,
      closing,
    }: {
      readonly swap: LoadStatement;
      readonly attached: readonly (Attached & Pick<Place, 'schema'>)[];
      readonly closing: readonly string[];
    },
  ): Promise<void> {
    const { statements } = this;
    statements.savepoint('before_attached');
    await statements.together([swap]);
    for (const what of attached) {
      try {
        await statements.plain('swap', what.sql);
      } catch (error) {
        if (!(error instanceof StatementFailed) || codeOf(error) === STOPPED) throw error;
        await statements.client.query('rollback to savepoint before_attached');
        await this.replaceInPlace(items, inPlace, [what]);
        break;
      }
    }
    await statements.conclude(closing);
  }

  /** What a swap has to know of its places; `standing` reads the answers. */
  private asks(items: readonly SwapItem[], dropped: readonly Place[], finishing: LoadPlan | undefined): string[] {
    const targets = items.flatMap((i) => (i.formerly ? [i.target, i.formerly] : [i.target]));
    return questions(STANDING, [...targets, ...dropped, ...(finishing ? [finishing.staged] : [])]);
  }

  /** Where a dependent belongs to someone else, the rows are replaced and the table stays. */
  private async replaceInPlace(
    items: readonly SwapItem[],
    { old, keptIn }: InPlace,
    blockers: readonly Blocker[],
  ): Promise<void> {
    const names = blockers
      .map((b) => `${b.kind} ${b.schema}.${b.name}${b.owner ? ` (owner ${b.owner})` : ''}`)
      .join(', ');
    for (const item of items) {
      const before = old.find((o) => o.schema === item.target.schema && o.name === item.target.name);
      const [fresh] = await this.oldRelations([item.staged]);
      const shape = (r: OldRelation | undefined) => JSON.stringify(r?.columns);
      if (items.length > 1 || item.relation !== 'table' || before?.relkind !== 'r' || shape(before) !== shape(fresh)) {
        throw new SwapBlocked(
          `${names} belongs to ${item.target.schema}.${item.target.name} or reads it, and Ouvrage cannot recreate it. Drop it, or give its ownership to the production builder, and run again.`,
        );
      }
      for (const sql of planReplaceInPlace(item, keptIn?.(item.target))) await this.statements.plain('swap', sql);
    }
  }
}

/** Production does not wait for workspaces, and runs nothing of theirs: what reads its tables there goes, and its owner makes it again. */
const ofWorkspaces = ({ owner }: Dependent): boolean => owner === ROLES.workspace;

const standing = (answers: readonly pg.QueryResult[]): Standing => {
  const [old, dependents] = answersTo(STANDING, answers);
  return { old: old as OldRelation[], dependents: dependents as Dependent[] };
};
