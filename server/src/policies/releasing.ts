import { REMEMBERED, rememberedPlace } from '@ouvrage/core/compile';
import { fingerprints } from '@ouvrage/core/graph';
import { stagedPlace, targetPlace, type LoadPlan } from '@ouvrage/core/load';
import type { Definition, Environment, Place, Project } from '@ouvrage/core/model';
import { readProject } from '@ouvrage/core/resolve';
import type pg from 'pg';
import { planFrom, type BaseSurroundings } from '../run/load-base.js';
import { Loader } from '../load/loader.js';
import type { Loaded } from '../warehouse/loaded.js';

export type Treatments = Readonly<Record<string, 'correct' | 'start over'>>;

/** Releases and runs small projects in one schema, by the same plans, loads and swaps as the application's. */
export class Releases {
  private released: Project = readProject(new Map());
  private loaded = new Map<string, Loaded>();
  private readonly environment: Environment;

  constructor(
    private readonly client: pg.Client,
    schema: string,
  ) {
    this.environment = { kind: 'production', schemaOf: () => schema, readers: [] };
  }

  /** A release: everything beside, from a copy of what is there, then all of it swapped. @param time of the loads */
  async release(files: Readonly<Record<string, string>>, time: string, treatments: Treatments = {}): Promise<void> {
    const after = readProject(new Map(Object.entries(files)));
    const wrong = after.diagnostics.filter((d) => d.severity === 'error');
    if (wrong.length) throw new Error(wrong.map((d) => `${d.path}: ${d.message} ${d.hint ?? ''}`).join('; '));
    const built = new Map<string, LoadPlan>();
    const place = (project: Project, name: string) => targetPlace(this.environment, project.tables.get(name)!);
    const placeOf = (name: string): Place =>
      built.has(name) ? stagedPlace(this.environment, after.tables.get(name)!) : place(after, name);
    await this.transaction(async (loader) => {
      for (const table of definitions(after)) {
        const { plan } = await this.make(loader, after, table, placeOf, time, true, treatments[table.fullName]);
        await loader.swaps.finishStaged(plan);
        built.set(table.fullName, plan);
      }
      const gone = definitions(this.released).filter((t) => !after.tables.has(t.fullName));
      const places = gone.map((t) => place(this.released, t.fullName));
      await loader.swaps.swap([...built.values()], {
        dropped: places.flatMap((p) => [p, ...REMEMBERED.map((what) => rememberedPlace(p, what))]),
      });
    });
    const prints = fingerprints(after);
    this.loaded = new Map(
      [...built.keys()].map((name) => [name, { fingerprint: prints.get(name)!, rows: null, runId: 1, at: time }]),
    );
    this.released = after;
  }

  /** A run of what was released last: tables that keep rows are loaded in their places. */
  async run(time: string): Promise<void> {
    for (const table of definitions(this.released)) {
      await this.transaction(async (loader) => {
        const placeOf = (name: string) => targetPlace(this.environment, this.released.tables.get(name)!);
        const { plan } = await this.make(loader, this.released, table, placeOf, time, false);
        if (plan.swaps) await loader.finishAndSwap(plan, []);
      });
    }
  }

  private async make(
    loader: Loader,
    project: Project,
    table: Definition,
    placeOf: (name: string) => Place,
    time: string,
    staged: boolean,
    treatment?: 'correct' | 'start over',
  ): Promise<{ plan: LoadPlan }> {
    const { environment } = this;
    const released = { project: this.released, environment, loaded: this.loaded };
    const around: BaseSurroundings = { project, environment, here: this.loaded, released, staged };
    const context = { project, environment, placeOf, time, run: '1', corrects: treatment === 'correct' };
    loader.inputs = placeOf;
    const plan = await planFrom(
      loader,
      context,
      table,
      treatment === 'start over' ? { ...around, startOver: true } : around,
    );
    const made = await loader.makeStaged(plan, { next: 'others' });
    const broken = made.checks.find((c) => c.verdict === 'broken');
    if (broken) throw new Error(`${broken.id} is broken: ${JSON.stringify(broken.rows)}`);
    return made;
  }

  private async transaction(body: (loader: Loader) => Promise<void>): Promise<void> {
    await this.client.query('begin');
    try {
      await body(new Loader(this.client));
      await this.client.query('commit');
    } catch (error) {
      await this.client.query('rollback');
      throw error;
    }
  }
}

const definitions = (project: Project): Definition[] =>
  project.order.flatMap((name) => {
    const table = project.tables.get(name)!;
    return table.kind === 'definition' ? [table] : [];
  });
