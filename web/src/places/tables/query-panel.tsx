import { Tabs } from 'radix-ui';
import { useEffect, useState } from 'react';
import { useProject } from '../../data/project';
import { count, duration, plural } from '../../shared/format';
import { Button } from '../../shared/ui/button';
import { AnatomyPanel, asOf, type Stretch } from './anatomy/anatomy-panel';
import { PlanPanel, planFigures } from './anatomy/plan-panel';
import { QUERY_VIEWS, type QueryViews, type QueryView } from './anatomy/use-query-views';
import { useExampleFromRows } from './examples/begin-example';
import { PreviewFiguresLine, PreviewRows } from './preview-panel';
import { SaveQuery } from './save-query';
import { SampleChoice } from './sample-choice';

const NONE: ReadonlySet<number> = new Set();

const TITLES: Readonly<Record<QueryView, string>> = { preview: 'Preview', anatomy: 'Anatomy', plan: 'Plan' };

/** What the query in the editor returns, how it comes to it step by step, and how long that takes. */
export function QueryPanel({
  views,
  path,
  name,
  text,
  inputs,
  selected,
  onMark,
  onDeclare,
}: {
  views: QueryViews;
  path: string;
  /** What the rows are of. */
  name: string;
  text: string;
  /** Tables that can be sampled. */
  inputs: readonly string[];
  selected: Stretch | undefined;
  onMark: (stretch: Stretch | undefined) => void;
  onDeclare: ((table: string, statement: string) => void) | undefined;
}) {
  const { view, preview, anatomy, plan } = views;
  const { tables } = useProject();
  const [chosen, setChosen] = useState<ReadonlySet<number>>(NONE);
  const { rows } = preview;
  const example = useExampleFromRows(name, {
    columns: rows?.columns.map((c) => c.name) ?? [],
    rows: rows?.rows ?? [],
    chosen,
  });
  // Rows of another query are not those that were chosen.
  useEffect(() => setChosen(NONE), [rows]);
  const choose = (row: number) =>
    setChosen((before) => new Set(before.has(row) ? [...before].filter((r) => r !== row) : [...before, row]));
  useEffect(() => {
    if (view !== 'preview') views.open(view, text);
    // An address may lead to a view: it is asked for once.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  return (
    <Tabs.Root
      value={view}
      // A view asks the warehouse: it is opened by a press, not by passing it.
      activationMode="manual"
      onValueChange={(next) => views.open(next as QueryView, text)}
      className="flex h-full min-h-0 flex-col"
    >
      <div className="flex h-7.5 shrink-0 items-center justify-between gap-3 border-b border-line bg-paper/60 px-3.5">
        <span className="flex items-center gap-3">
          <Tabs.List aria-label="Views of the query" className="flex gap-3">
            {QUERY_VIEWS.map((v) => (
              <Tabs.Trigger
                key={v}
                value={v}
                className="caps h-7 border-b-2 border-transparent text-soft hover:text-ink data-[state=active]:border-accent data-[state=active]:text-ink"
              >
                {TITLES[v]}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          {inputs.length > 0 && <SampleChoice inputs={inputs} preview={preview} />}
        </span>
        <span className="flex min-w-0 items-center gap-2 text-small text-soft">
          <span className="truncate">
            <Figures views={views} />
          </span>
          {view === 'preview' && preview.rows && (
            <SaveQuery
              path={path}
              text={text}
              sample={preview.sample}
              example={tables.get(name)?.kind === 'definition' ? example.offer : undefined}
            />
          )}
          {example.dialog}
        </span>
      </div>
      <Tabs.Content value="preview" className="min-h-0 flex-1" tabIndex={-1}>
        <PreviewRows preview={preview} table={name} chosen={chosen} onChoose={choose} />
      </Tabs.Content>
      <Tabs.Content value="anatomy" className="min-h-0 flex-1" tabIndex={-1}>
        <AnatomyPanel
          path={path}
          text={text}
          anatomy={anatomy}
          sample={preview.sample}
          table={tables.has(name) ? name : undefined}
          selected={selected}
          onMark={onMark}
        />
      </Tabs.Content>
      <Tabs.Content value="plan" className="min-h-0 flex-1" tabIndex={-1}>
        <PlanPanel text={text} plan={plan} onMark={onMark} onDeclare={onDeclare} />
      </Tabs.Content>
    </Tabs.Root>
  );
}

function Figures({ views: { view, preview, anatomy, plan } }: { views: QueryViews }) {
  const open = { preview, anatomy, plan }[view];
  if (open.running)
    return (
      <>
        {view === 'anatomy' ? `counting${countedSteps(anatomy)} …` : 'running …'}{' '}
        <Button tone="quiet" onClick={open.stop}>
          Stop
        </Button>
      </>
    );
  if (view === 'preview') return <PreviewFiguresLine preview={preview} />;
  if (view === 'plan') return plan.plan ? planFigures(plan.plan) : null;
  const { here } = anatomy;
  if (!here) return null;
  return (
    <>
      {plural(here.steps.length, 'step')}, {here.sampled === undefined ? 'all rows' : 'a sample'}
      {anatomy.milliseconds !== undefined && `, ${duration(anatomy.milliseconds)}`}
      {anatomy.production && ', beside production'}
      <span title="When the rows were as they are counted">, as of {asOf(anatomy)}</span>
    </>
  );
}

function countedSteps({ here }: QueryViews['anatomy']): string {
  return here ? `, ${count(here.figures.size)} of ${plural(here.steps.length, 'step')}` : '';
}
