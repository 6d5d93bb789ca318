import { declaredName, jobTables } from '../../../graph/job-tables.js';
import { jobSpec, type JobSpec } from '../../../language/job.js';
import { isView } from '../../../language/policies.js';
import { errorAt, type Diagnostic } from '../../../model/diagnostic.js';
import type { Job, Layer, Parameter, Table } from '../../../model/project.js';
import { isCron, parseCron } from '../../../schedule/cron.js';
import { isZone, nearestZone } from '../../../schedule/zone.js';
import {
  addLayer,
  jobCycle,
  jobParameterOfView,
  jobParameterTwice,
  jobSource,
  notDelivered,
  noZone,
  unknownJob,
  unknownJobParameter,
  unknownLayer,
  unknownTable,
  wrongSchedule,
} from '../../messages.js';

interface Around {
  readonly layers: readonly Layer[];
  readonly tables: ReadonlyMap<string, Table>;
  readonly parameters: ReadonlyMap<string, Parameter>;
}

/** What is wrong with jobs beside their own texts: what they name, their times, and each other. */
export function jobDiagnostics(jobs: ReadonlyMap<string, Job>, around: Around): Diagnostic[] {
  return [...jobs.values()].flatMap((job) => {
    const spec = jobSpec(job);
    return [
      ...namedDiagnostics(job, around),
      ...timeDiagnostics(job),
      ...otherJobs(job, spec, jobs),
      ...deliveries(job, spec, around),
      ...parameterDiagnostics(job, spec, { jobs, around }),
    ];
  });
}

function namedDiagnostics({ path, tables, layers }: Job, around: Around): Diagnostic[] {
  const names = around.layers.map((l) => l.name);
  const ofTables = tables.flatMap(({ layer, name, start, end }): Diagnostic[] => {
    const place = { path, range: { start, end } };
    const full = `${layer}.${name}`;
    const found = around.tables.get(full);
    if (found?.kind === 'source') return [errorAt(place, jobSource(full))];
    if (found ?? [...around.tables.values()].some((t) => declaredName(t) === full)) return [];
    if (!names.includes(layer)) return [errorAt(place, unknownLayer(layer, names, addLayer(layer)))];
    const all = [...around.tables.values()];
    const inLayer = all.filter((t) => t.layer === layer).map((t) => t.name);
    const elsewhere = all.filter((t) => t.name === name).map((t) => t.fullName);
    return [errorAt(place, unknownTable({ layer, name }, inLayer, elsewhere))];
  });
  const ofLayers = layers.flatMap(({ name, start, end }) =>
    names.includes(name) ? [] : [errorAt({ path, range: { start, end } }, unknownLayer(name, names, addLayer(name)))],
  );
  return [...ofTables, ...ofLayers];
}

function timeDiagnostics({ path, options }: Job): Diagnostic[] {
  const [at, zone] = [options.get('at'), options.get('time_zone')];
  const read = at && parseCron(at.value);
  return [
    ...(at && read && !isCron(read) ? [errorAt({ path, range: at.range }, wrongSchedule(read))] : []),
    ...(zone && !isZone(zone.value)
      ? [errorAt({ path, range: zone.range }, noZone(zone.value, nearestZone(zone.value)))]
      : []),
  ];
}

function otherJobs({ name, path, options }: Job, { after }: JobSpec, jobs: ReadonlyMap<string, Job>): Diagnostic[] {
  const range = options.get('after')?.range;
  if (!range) return [];
  const unknown = after.find((other) => !jobs.has(other));
  if (unknown !== undefined) return [errorAt({ path, range }, unknownJob(unknown, jobs.keys()))];
  const way = wayBack(name, jobs);
  return way ? [errorAt({ path, range }, jobCycle(way))] : [];
}

/** The jobs over which a job comes after itself, the first and last being it. */
function wayBack(name: string, jobs: ReadonlyMap<string, Job>): readonly string[] | undefined {
  const seen = new Set<string>();
  const open: (readonly string[])[] = [[name]];
  for (let way = open.shift(); way; way = open.shift()) {
    const job = jobs.get(way.at(-1)!);
    for (const before of job ? jobSpec(job).after : []) {
      if (before === name) return [...way, name];
      if (!seen.has(before)) open.push([...way, before]);
      seen.add(before);
    }
  }
  return undefined;
}

function deliveries({ path, options }: Job, { onDelivery }: JobSpec, { tables }: Around): Diagnostic[] {
  const range = options.get('on_delivery')?.range;
  if (!range) return [];
  return onDelivery.flatMap((name) => {
    const table = tables.get(name);
    if (table?.kind === 'source' && table.contract.options.has('pattern')) return [];
    const delivered = [...tables.values()].filter((t) => t.kind === 'source' && t.contract.options.has('pattern'));
    return [
      errorAt(
        { path, range },
        notDelivered(
          name,
          delivered.map((t) => t.fullName),
        ),
      ),
    ];
  });
}

/** A value of a parameter is the same wherever a table is loaded with it; of a view nothing remembers it. */
function parameterDiagnostics(
  job: Job,
  spec: JobSpec,
  { jobs, around }: { readonly jobs: ReadonlyMap<string, Job>; readonly around: Around },
): Diagnostic[] {
  return [...spec.parameters].flatMap(([name, value]): Diagnostic[] => {
    const place = { path: job.path, range: job.options.get(`param.${name}`)!.range };
    if (!around.parameters.has(name)) return [errorAt(place, unknownJobParameter(name, around.parameters.keys()))];
    const view = [...around.tables.values()].find(
      (t) => t.kind === 'definition' && isView(t) && t.query?.settings.some((s) => s.setting === `param.${name}`),
    );
    if (view) return [errorAt(place, jobParameterOfView(name, view.fullName))];
    const own = new Set(jobTables(job, around.tables));
    const other = [...jobs.values()].find(
      (j) =>
        j.name !== job.name &&
        (jobSpec(j).parameters.get(name) ?? around.parameters.get(name)!.value) !== value &&
        jobTables(j, around.tables).some((t) => own.has(t)),
    );
    return other ? [errorAt(place, jobParameterTwice(name, other.name))] : [];
  });
}
