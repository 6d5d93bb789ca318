import type { AnatomyStep } from '@ouvrage/api/anatomy';
import type { Verdict } from '@ouvrage/core/check';
import { count, plural, rows } from '../../../shared/format';
import { figureOf, type Strip } from './strip';

/** What is said about a step; a verdict where it needs an eye. */
export interface Said {
  readonly text: string;
  readonly verdict?: Extract<Verdict, 'advisory' | 'broken'>;
}

/** What the figures of a step say, the most important first. */
export function saidOf(strip: Strip, step: AnatomyStep): readonly Said[] {
  const failed = strip.failed.get(step.id);
  if (failed) return [{ text: `not counted: ${failed.message}`, verdict: 'broken' }];
  if (step.why !== undefined) return [{ text: `not counted alone: ${step.why}` }];
  const figure = (name: Parameters<typeof figureOf>[2]) => figureOf(strip, step, name);
  switch (step.kind) {
    case 'join':
      return joinSaid(strip, step);
    case 'filter':
      return filterSaid(strip, step);
    case 'group': {
      const [before, groups, largest] = [inputRows(strip, step), figure('groups'), figure('largest')];
      if (groups === undefined || largest === undefined) return [];
      return [
        {
          text: `${before === undefined ? '' : `${rows(before)} in `}${plural(groups, 'group')}, largest ${count(largest)}`,
        },
      ];
    }
    case 'window': {
      const [groups, largest] = [figure('groups'), figure('largest')];
      return groups === undefined ? [] : [{ text: `${plural(groups, 'partition')}, largest ${count(largest)}` }];
    }
    case 'expand':
    case 'stack':
    case 'source':
      return [];
    case 'limit': {
      const [before, after] = [inputRows(strip, step), figure('rows')];
      return before === undefined || after === undefined ? [] : [{ text: `${rows(before - after)} cut off` }];
    }
    case 'result':
      return checksSaid(strip);
  }
}

/** The rows of the one input of a step. */
function inputRows(strip: Strip, step: AnatomyStep): number | undefined {
  const input = strip.steps.find((s) => s.id === step.inputs[0]);
  return input && figureOf(strip, input, 'rows');
}

function joinSaid(strip: Strip, step: AnatomyStep): Said[] {
  const figure = (name: Parameters<typeof figureOf>[2]) => figureOf(strip, step, name);
  const [several, most, keys, alone] = [
    figure('leftSeveral'),
    figure('leftMost'),
    figure('leftKeys'),
    figure('leftAlone'),
  ];
  if (several === undefined || alone === undefined) return [];
  const said: Said[] = [];
  const ofRight = step.table ?? step.name ?? 'the right side';
  if (several > 0)
    said.push({
      text: `multiplies: ${keys === undefined ? `${rows(several)} ${several === 1 ? 'meets' : 'meet'} several` : plural(keys, 'key')}, up to ${rows(most)} each`,
      verdict: 'broken',
    });
  if (alone > 0 && (step.join === 'inner' || step.join === 'right'))
    said.push({ text: `loses ${rows(alone)} without a partner`, verdict: 'advisory' });
  else if (alone > 0) said.push({ text: `${rows(alone)} without a partner` });
  const unused = figure('rightAlone');
  if (unused !== undefined && unused > 0) said.push({ text: `${count(unused)} of ${ofRight} unused` });
  const nulls = figure('leftNull');
  if (nulls) said.push({ text: `${rows(nulls)} with a null key` });
  if (said.length === 0 || (several === 0 && alone === 0)) said.unshift({ text: cardinality(figure('rightSeveral')) });
  return said;
}

/** How keys of both sides meet, where no row on the left meets several. */
const cardinality = (rightSeveral: number | undefined) =>
  rightSeveral === undefined ? 'at most one partner each' : rightSeveral > 0 ? 'many to one' : 'one to one';

function filterSaid(strip: Strip, step: AnatomyStep): Said[] {
  const [before, after] = [inputRows(strip, step), figureOf(strip, step, 'rows')];
  const [unknown, nulls] = [figureOf(strip, step, 'unknown'), figureOf(strip, step, 'listNulls')];
  if (before === undefined || after === undefined) return [];
  const said: Said[] = [
    { text: `${rows(before - after)} filtered out${unknown === undefined ? '' : `, ${count(unknown)} unknown`}` },
  ];
  if (nulls)
    said.unshift({
      text: `${plural(nulls, 'null')} in the list: nothing can be known to be outside of it`,
      verdict: 'broken',
    });
  return said;
}

function checksSaid({ checks }: Strip): Said[] {
  if (!checks?.length) return [];
  const broken = checks.filter((c) => c.atFault !== null && c.atFault > 0);
  if (broken.length === 0) return [{ text: `${plural(checks.length, 'check')} of the contract hold` }];
  return broken.map((c) => ({
    text: `${c.name}: ${rows(c.atFault!)} at fault`,
    verdict: c.isAdvisory ? ('advisory' as const) : ('broken' as const),
  }));
}
