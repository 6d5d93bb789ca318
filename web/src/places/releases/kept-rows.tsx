import type { Treatment } from '@ouvrage/core/review';
import type { Comparison } from '@ouvrage/api/release';
import { plural } from '../../shared/format';
import { SectionTitle } from '../../shared/ui/section-title';
import { ComesBackList } from './comes-back';

const SAYS: Readonly<Record<Treatment, string>> = {
  'go on': 'go on from its rows',
  correct: 'correct open versions without new ones',
  'start over': 'start over, without its rows',
};

/** What a release is asked about rows that no query can bring back. */
export interface Answers {
  readonly treatments: Readonly<Record<string, Treatment>>;
  readonly consents: readonly string[];
}

/** The answers as they are before anyone has chosen: the usual thing, and no consent. */
export const firstAnswers = (data: Comparison): Answers => ({
  treatments: Object.fromEntries(data.migrations.map((m) => [m.table, m.choices[0]!])),
  consents: [],
});

/** Tables that keep rows: what becomes of them, how their columns change, and what is lost for good. */
export function KeptRows({
  data,
  answers,
  onAnswer,
}: {
  data: Comparison;
  answers: Answers;
  onAnswer: (answers: Answers) => void;
}) {
  const { restores, keptDays } = data;
  if (!restores && data.migrations.length + data.losses.length + data.rehashes.length === 0) return null;
  return (
    <section className="flex flex-col gap-3">
      {restores && (
        <>
          <SectionTitle>What comes back</SectionTitle>
          <ComesBackList
            tables={restores.tables}
            consents={answers.consents}
            onConsent={(consents) => onAnswer({ ...answers, consents })}
          />
        </>
      )}
      {data.migrations.length > 0 && <SectionTitle>Tables that keep rows</SectionTitle>}
      {data.migrations.map((m) => (
        <fieldset key={m.table} className="min-w-0 border-l-2 border-rule pl-2.5">
          <legend className="contents">
            <span className="block truncate font-medium">{m.table}</span>
          </legend>
          {m.obstacle !== undefined && <p className="text-broken">It cannot continue from its rows: {m.obstacle}.</p>}
          {m.choices.map((choice) => (
            <label key={choice} className="flex min-h-6 items-center gap-2">
              <input
                type="radio"
                name={`rows of ${m.table}`}
                checked={answers.treatments[m.table] === choice}
                onChange={() => onAnswer({ ...answers, treatments: { ...answers.treatments, [m.table]: choice } })}
              />
              {SAYS[choice]}
            </label>
          ))}
          {answers.treatments[m.table] === 'start over' && m.holders.length > 0 && (
            <ul aria-label={`Tables that hold numbers of ${m.table}`} className="mt-1 flex flex-col gap-0.5 text-soft">
              {m.holders.map((h) => (
                <li key={h.table} className="break-words">
                  <span className="font-mono text-small">{h.table}</span>{' '}
                  {h.looksUpAgain
                    ? 'holds its numbers and looks them up again'
                    : 'holds its numbers and keeps those of rows that are gone'}
                </li>
              ))}
            </ul>
          )}
          {m.statements.length > 0 && answers.treatments[m.table] !== 'start over' && (
            <pre
              aria-label={`How the columns of ${m.table} change`}
              className="mt-1 bg-wash whitespace-pre-wrap break-words px-2 py-1.5 font-mono text-tiny leading-4"
            >
              {m.statements.join('\n')}
            </pre>
          )}
        </fieldset>
      ))}
      {data.rehashes.length > 0 && <SectionTitle>Hashes recomputed</SectionTitle>}
      {data.rehashes.map((r) => (
        <p key={r.table} className="break-words">
          <span className="font-mono text-small">{r.table}</span>: {r.columns.join(', ')}, so that equal values have
          equal hashes
          {r.facts.length > 0 && `; with it the keys that ${r.facts.join(', ')} hold${r.facts.length === 1 ? 's' : ''}`}
        </p>
      ))}
      {data.losses.length > 0 && (
        <>
          <SectionTitle>{keptDays === 0 ? 'Permanently lost' : 'Dropped'}</SectionTitle>
          {keptDays > 0 && (
            <p className="text-small text-soft">
              A copy is kept for {plural(keptDays, 'day')}: until then it can be restored.
            </p>
          )}
        </>
      )}
      {data.losses.map(({ of: loss, cutTo }) => (
        <label key={loss} className="flex min-h-6 items-baseline gap-2">
          <input
            type="checkbox"
            checked={answers.consents.includes(loss)}
            onChange={(e) =>
              onAnswer({
                ...answers,
                consents: e.target.checked ? [...answers.consents, loss] : answers.consents.filter((c) => c !== loss),
              })
            }
          />
          <span className="min-w-0 break-words">
            <span className="font-mono text-small">{loss}</span>{' '}
            {cutTo === undefined ? 'may be dropped' : `may be cut to ${cutTo}`}
          </span>
        </label>
      ))}
    </section>
  );
}
