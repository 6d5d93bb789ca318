import type { PreviewSample } from '@ouvrage/api/rows';
import { useState } from 'react';
import { Group, Panel, Separator } from 'react-resizable-panels';
import { moment } from '../../../shared/format';
import { Button } from '../../../shared/ui/button';
import { Empty } from '../../../shared/ui/empty';
import { Loading } from '../../../shared/ui/loading';
import { ProblemNote } from '../../../shared/ui/problem-note';
import { StepList } from './step-list';
import { StepRows } from './step-rows';
import { stepAt } from './strip';
import type { AnatomyState } from './use-anatomy';

/** A stretch of the text in the editor. */
export interface Stretch {
  readonly start: number;
  readonly end: number;
}

/** The steps of the query in the editor with their counts, and the rows of the one that is chosen. */
export function AnatomyPanel({
  path,
  text,
  anatomy,
  sample,
  selected,
  table,
  onMark,
}: {
  path: string;
  table: string | undefined;
  /** As it is now; the steps are those of the text that was counted. */
  text: string;
  anatomy: AnatomyState;
  sample: PreviewSample | undefined;
  /** What is selected in the editor: it chooses the step around it. */
  selected: Stretch | undefined;
  onMark: (stretch: Stretch | undefined) => void;
}) {
  const { here, production, problem, running, stopped } = anatomy;
  const [chosen, setChosen] = useState<string>();
  const [followed, setFollowed] = useState(selected);
  const isCurrent = anatomy.text === text;
  if (selected !== followed) {
    setFollowed(selected);
    const step = here && isCurrent && selected && stepAt(here.steps, selected.start, selected.end);
    if (step) setChosen(step.id);
  }
  if (problem)
    return (
      <div className="h-full overflow-auto p-3">
        <ProblemNote problem={problem} />
      </div>
    );
  if (!here)
    return running ? (
      <Loading what="Taking the query apart" />
    ) : (
      <Empty title="Nothing counted yet">
        <Button onClick={() => anatomy.count(text)}>Count the steps</Button>
      </Empty>
    );
  const at = Math.max(
    here.steps.findIndex((s) => s.id === chosen),
    -1,
  );
  const step = here.steps[at >= 0 ? at : here.steps.length - 1]!;
  const n = here.steps.indexOf(step) + 1;
  return (
    <Group orientation="vertical" className="h-full">
      <Panel defaultSize="55%" minSize="20%" className="flex flex-col">
        {!isCurrent && (
          <Strap>
            These are the steps of the text before your last edit.{' '}
            <Button tone="quiet" onClick={() => anatomy.count(text)}>
              Count again
            </Button>
          </Strap>
        )}
        {here.isHeld && !running && (
          <Strap>
            Counting all steps may take about {Math.round(here.seconds)} s.{' '}
            <Button tone="quiet" onClick={() => anatomy.count(text, 'force')}>
              Count them
            </Button>
          </Strap>
        )}
        {stopped && (
          <Strap>
            {stopped.message}.{' '}
            <Button tone="quiet" onClick={() => anatomy.count(text)}>
              Count again
            </Button>
          </Strap>
        )}
        {here.sampled !== undefined && (
          <Strap>From a sample of {here.sampled}: groups and what is alone on the right are not counted.</Strap>
        )}
        <StepList
          strip={here}
          beside={production}
          chosen={step.id}
          onChoose={(next) => {
            setChosen(next.id);
            if (isCurrent) onMark({ start: next.start, end: next.end });
          }}
        />
      </Panel>
      <Separator
        className="h-1.25 border-t border-rule bg-paper data-[separator=hover]:bg-wash"
        aria-label="Height of the rows of a step"
      />
      <Panel minSize="20%">
        <StepRows
          key={step.id}
          path={path}
          text={anatomy.text!}
          sample={sample}
          strip={here}
          step={step}
          n={n}
          table={isCurrent ? table : undefined}
        />
      </Panel>
    </Group>
  );
}

function Strap({ children }: { children: React.ReactNode }) {
  return <p className="shrink-0 border-b border-line px-3.5 py-0.5 text-advisory-text">{children}</p>;
}

/** When the rows were as they are counted. */
export const asOf = (anatomy: AnatomyState) => (anatomy.here ? moment(anatomy.here.asOf) : '');
