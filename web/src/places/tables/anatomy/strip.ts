import type { AnatomyLine, AnatomySide, AnatomyStep } from '@ouvrage/api/anatomy';
import type { StepError } from '@ouvrage/api/run';
import type { FigureName, Figures } from '@ouvrage/core/anatomy';

type Of<K extends AnatomyLine['kind']> = Extract<AnatomyLine, { kind: K }>;

/** The steps of one query, as far as they are counted. */
export interface Strip extends Omit<Of<'steps'>, 'kind' | 'side'> {
  readonly figures: ReadonlyMap<string, Figures>;
  readonly failed: ReadonlyMap<string, StepError>;
  readonly checks: Of<'checks'>['checks'] | undefined;
}

/** What a counting has brought so far. */
export interface Counting {
  readonly here?: Strip;
  readonly production?: Strip;
  readonly stopped?: StepError;
  readonly milliseconds?: number;
}

/** What a counting is with one more line. */
export function withLine(counting: Counting, line: AnatomyLine): Counting {
  switch (line.kind) {
    case 'steps': {
      const { kind: _, side, ...steps } = line;
      return { ...counting, [side]: { ...steps, figures: new Map(), failed: new Map(), checks: undefined } };
    }
    case 'figures':
      return changed(counting, line.side, (strip) => {
        const figures = new Map(strip.figures);
        for (const { step, figure, value } of line.figures)
          figures.set(step, { ...figures.get(step), [figure]: value });
        return { ...strip, figures };
      });
    case 'failed':
      return changed(counting, line.side, (strip) => {
        const failed = new Map(strip.failed);
        for (const step of line.steps) failed.set(step, line.error);
        return { ...strip, failed };
      });
    case 'checks':
      return changed(counting, line.side, (strip) => ({ ...strip, checks: line.checks }));
    case 'again':
      return {};
    case 'stopped':
      return { ...counting, stopped: line.error };
    case 'end':
      return { ...counting, milliseconds: line.milliseconds };
  }
}

function changed(counting: Counting, side: AnatomySide, change: (strip: Strip) => Strip): Counting {
  const strip = counting[side];
  return strip ? { ...counting, [side]: change(strip) } : counting;
}

/** A figure of a step; rows may be those of other steps. Undefined as long as it is not counted. */
export function figureOf(strip: Strip, step: AnatomyStep, name: FigureName): number | undefined {
  const own = strip.figures.get(step.id)?.[name] ?? step.known[name];
  if (own !== undefined || name !== 'rows' || !step.rowsOf) return own;
  let sum = 0;
  for (const id of step.rowsOf) {
    const of = strip.steps.find((s) => s.id === id);
    const rows = of && figureOf(strip, of, 'rows');
    if (rows === undefined) return undefined;
    sum += rows;
  }
  return sum;
}

/** The innermost step whose text holds a selection. */
export function stepAt(steps: readonly AnatomyStep[], from: number, to: number): AnatomyStep | undefined {
  const around = steps.filter((s) => s.start <= from && to <= s.end && s.kind !== 'result');
  return around.sort((a, b) => a.end - a.start - (b.end - b.start))[0];
}

// The rail ---------------------------------------------------------------------------------------

/** How a step is drawn: its lane, the lanes that end in it, and those that pass. */
export interface RailRow {
  readonly lane: number;
  readonly joins: readonly number[];
  readonly passes: readonly number[];
  readonly hasAbove: boolean;
  readonly hasBelow: boolean;
}

/** Lays steps out as lines that run down and meet where one reads several. */
export function railOf(steps: readonly AnatomyStep[]): RailRow[] {
  const lanes: (string | undefined)[] = [];
  const needed = new Map<string, number>();
  for (const [i, step] of steps.entries()) for (const input of step.inputs) needed.set(input, i);
  return steps.map((step): RailRow => {
    const inputs = step.inputs.map((id) => lanes.indexOf(id)).filter((lane) => lane >= 0);
    const free = lanes.findIndex((l) => l === undefined);
    const lane = inputs.length
      ? Math.min(...inputs)
      : free >= 0 && lanes.slice(free).every((l) => l === undefined)
        ? free
        : lanes.length;
    const joins = inputs.filter((l) => l !== lane);
    for (const joined of joins) lanes[joined] = undefined;
    const passes = lanes.flatMap((id, l) => (id !== undefined && l !== lane ? [l] : []));
    const hasBelow = needed.has(step.id);
    lanes[lane] = hasBelow ? step.id : undefined;
    while (lanes.length && lanes.at(-1) === undefined) lanes.pop();
    return { lane, joins, passes, hasAbove: inputs.length > 0, hasBelow };
  });
}
