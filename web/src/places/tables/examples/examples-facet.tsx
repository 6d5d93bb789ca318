import { useState } from 'react';
import { useSearchParams } from 'react-router';
import type { ExampleState } from '@ouvrage/api/example';
import { useRunExamplesMutation, useTableExamples } from '../../../data/examples';
import { usePerson, whyNot } from '../../../data/person';
import { useProject } from '../../../data/project';
import { useTell } from '../../../shared/toasts';
import { Button } from '../../../shared/ui/button';
import { Empty } from '../../../shared/ui/empty';
import { Loading } from '../../../shared/ui/loading';
import { ProblemNote } from '../../../shared/ui/problem-note';
import { VirtualList } from '../../../shared/ui/virtual-list';
import type { ProblemBody } from '@ouvrage/api/problem';
import type { ExampleSummary, TableSummary } from '../../../worker/protocol';
import { BeginExample, useWhyNoExamples } from './begin-example';
import { ExampleMark, exampleWords } from '../../../shared/example-words';
import { ExampleSheet } from './example-sheet';

const UNKNOWN: Pick<ExampleState, 'verdict' | 'outcome' | 'at'> = { verdict: 'not run', outcome: null, at: null };

/** The worked examples of one definition: input rows, and what it must make of them. */
export function ExamplesFacet({ table }: { table: TableSummary }) {
  const { slug, summary } = useProject();
  const [search, setSearch] = useSearchParams();
  const name = table.declared ?? table.fullName;
  const { data, error } = useTableExamples({ slug, table: name });
  const person = usePerson();
  const [run, { isLoading }] = useRunExamplesMutation();
  const tell = useTell();
  const [isBeginning, setBeginning] = useState(false);
  const whyNoRun = whyNot(person, 'editor', 'run examples');
  const whyNoNew = useWhyNoExamples();
  const own = summary.examples.filter((e) => e.table === name);
  const stateOf = (e: ExampleSummary) => data?.find((s) => s.name === e.name) ?? UNKNOWN;
  const current = own.find((e) => e.name === search.get('example')) ?? own.find((e) => isBad(stateOf(e))) ?? own[0];
  const runNow = (example?: string) =>
    void run({ slug, table: name, ...(example === undefined ? {} : { name: example }) })
      .unwrap()
      .catch(tell.problem);
  const beginning = isBeginning && (
    <BeginExample table={table.fullName} columns={[]} rows={[]} onClose={() => setBeginning(false)}>
      It begins with some rows of each input, which you then change. To begin from a row of the result, use the preview
      under Definition.
    </BeginExample>
  );
  const button = (
    <Button {...(whyNoNew ? { reason: whyNoNew } : {})} onClick={() => setBeginning(true)}>
      New example
    </Button>
  );
  if (error) return <ProblemNote problem={error as ProblemBody} />;
  if (!data) return <Loading what="Reading examples" />;
  if (!current)
    return (
      <>
        <Empty title="No worked examples yet">
          <p>
            An example gives rows of each input, and the rows that this definition must make of them. It runs whenever a
            draft that concerns it is saved, and in every review; no real data is touched.
          </p>
          {button}
        </Empty>
        {beginning}
      </>
    );
  return (
    <div className="flex h-full min-h-0">
      <div className="flex w-67.5 shrink-0 flex-col border-r border-line">
        <div className="flex justify-between gap-2 border-b border-line p-2">
          {button}
          <Button disabled={isLoading} {...(whyNoRun ? { reason: whyNoRun } : {})} onClick={() => runNow()}>
            Run all
          </Button>
        </div>
        <VirtualList label={`Examples of ${name}`} items={own} keyOf={(e) => e.name} height={46} className="flex-1">
          {(example) => (
            <Line
              example={example}
              state={stateOf(example)}
              current={example === current}
              onChoose={() => setSearch({ example: example.name }, { replace: true })}
            />
          )}
        </VirtualList>
      </div>
      <ExampleSheet
        key={current.name}
        table={table}
        example={current}
        state={stateOf(current)}
        running={isLoading}
        whyNoRun={whyNoRun}
        onRun={() => runNow(current.name)}
      />
      {beginning}
    </div>
  );
}

const isBad = ({ verdict }: Pick<ExampleState, 'verdict'>) => ['differs', 'failed', 'errors'].includes(verdict);

function Line({
  example,
  state,
  current,
  onChoose,
}: {
  example: ExampleSummary;
  state: Pick<ExampleState, 'verdict' | 'outcome'>;
  current: boolean;
  onChoose: () => void;
}) {
  return (
    <button
      type="button"
      aria-current={current ? 'true' : undefined}
      onClick={onChoose}
      className={`flex h-full w-full items-center gap-2.5 border-b border-l-3 border-b-line px-3 text-left ${current ? 'border-l-plan bg-raised' : 'border-l-transparent hover:bg-wash/60'}`}
    >
      <ExampleMark verdict={state.verdict} />
      <span className="min-w-0 flex-1">
        <span className="block truncate" title={example.name}>
          {example.name}
        </span>
        <span className="block truncate text-small text-soft">{exampleWords(state)}</span>
      </span>
    </button>
  );
}
