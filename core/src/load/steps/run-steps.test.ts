import { describe, expect, test } from '@jest/globals';
import { guard, run, together, type Guard, type LoadStep } from '../../compile/steps.js';
import { runSteps, type AnswerRow, type StepHost } from './run-steps.js';

/** A host that answers from a table and writes down what happens. */
function hostOf(
  answers: Readonly<Record<string, readonly AnswerRow[]>> = {},
  failing: Readonly<Record<string, string>> = {},
) {
  const said: string[] = [];
  const host: StepHost = {
    run: async ({ sql }) => void said.push(`run ${sql}`),
    ask: async (sql) => {
      said.push(`ask ${sql}`);
      return answers[sql.replace(/\nlimit \d+$/, '')] ?? [];
    },
    attempt: async (sql) => {
      said.push(`attempt ${sql}`);
      return failing[sql] === undefined ? undefined : { code: failing[sql], error: new Error(failing[sql]) };
    },
    stopped: ({ message }: Guard) => new Error(message),
    held: ({ message }) => void said.push(`held ${message}`),
    noted: (note) => void said.push(`note ${note}`),
    chosen: (isAnew) => void said.push(isAnew ? 'rewritten' : 'in place'),
    counted: (name, n, rows) => void said.push(`${name} ${n}${rows === undefined ? '' : ` of ${rows}`}`),
  };
  const play = async (steps: readonly LoadStep[]) => {
    try {
      await runSteps(steps, host);
    } catch (error) {
      said.push(`stopped: ${(error as Error).message}`);
    }
    return said.map((s) => s.replace(/\nlimit \d+$/, ''));
  };
  return { play };
}

const [one, two] = [run('build', 'one'), run('build', 'two')];
const bad = guard('bad', 'rows are bad');
const worse = guard('worse', 'rows are worse');
const prove: LoadStep = { step: 'prove', sql: 'add key', guards: [bad, worse] };

describe('steps of a load', () => {
  test.each<[string, LoadStep[], Parameters<typeof hostOf>, string[]]>([
    ['run in their order', [one, two], [], ['run one', 'run two']],
    ['go on past a guard that finds nothing', [bad, one], [], ['ask bad', 'held rows are bad', 'run one']],
    ['end at one that finds rows', [bad, one], [{ bad: [{}] }], ['ask bad', 'stopped: rows are bad']],
    [
      'let the guard that found something say it, of several in one question',
      [together('any', [bad, worse]), one],
      [{ any: [{}], worse: [{}] }],
      ['ask any', 'ask bad', 'held rows are bad', 'ask worse', 'stopped: rows are worse'],
    ],
    [
      'end where none of them finds it again',
      [together('any', [bad])],
      [{ any: [{}] }],
      ['ask any', 'ask bad', 'held rows are bad', 'stopped: the query’s rows cannot be loaded'],
    ],
    [
      'take a proof for its guards',
      [prove, one],
      [],
      ['attempt add key', 'held rows are bad', 'held rows are worse', 'run one'],
    ],
    [
      'ask the guards of a proof that fails on keys',
      [prove],
      [{ worse: [{}] }, { 'add key': '23505' }],
      ['attempt add key', 'ask bad', 'held rows are bad', 'ask worse', 'stopped: rows are worse'],
    ],
    [
      'and nobody where it fails on something else',
      [prove],
      [{}, { 'add key': '53100' }],
      ['attempt add key', 'stopped: 53100'],
    ],
    [
      'are needed',
      [{ step: 'when', sql: 'q', steps: [one] }, two],
      [{ q: [{ needed: true }] }],
      ['ask q', 'run one', 'run two'],
    ],
    ['are not', [{ step: 'when', sql: 'q', steps: [one] }, two], [{ q: [{ needed: 'f' }] }], ['ask q', 'run two']],
    [
      'one way',
      [{ step: 'either', sql: 'q', then: [one], otherwise: [two] }],
      [{ q: [{ holds: 't' }] }],
      ['ask q', 'run one'],
    ],
    [
      'or the other',
      [{ step: 'either', sql: 'q', then: [one], otherwise: [two] }],
      [{ q: [{ holds: false }] }],
      ['ask q', 'run two'],
    ],
    [
      'write a table anew',
      [{ step: 'choose', sql: 'q', inPlace: [one], rewrite: [two] }],
      [{ q: [{ rewrite: 't', note: 'half of it' }] }],
      ['ask q', 'note half of it', 'rewritten', 'run two'],
    ],
    [
      'or change it in its place',
      [{ step: 'choose', sql: 'q', inPlace: [one], rewrite: [two] }],
      [{ q: [{ rewrite: false, note: 'little' }] }],
      ['ask q', 'note little', 'in place', 'run one'],
    ],
    [
      'count',
      [{ step: 'count', sql: 'q', rows: { inserted: 'r' } }],
      [{ q: [{ inserted: '3', updated: 0 }] }],
      ['ask q', 'inserted 3 of r', 'updated 0'],
    ],
  ])('%s', async (_, steps, host, expected) => expect(await hostOf(...host).play(steps)).toEqual(expected));
});
