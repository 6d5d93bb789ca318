import type { AnatomyStep } from '@ouvrage/api/anatomy';
import { useEffect, useMemo, useRef, type KeyboardEvent } from 'react';
import { VerdictMark } from '../../../shared/marks';
import { count, rows } from '../../../shared/format';
import { Rail } from './rail';
import { figureOf, railOf, type Strip } from './strip';
import { saidOf, type Said } from './words';

/** The steps of a query, one a line: what it is, its rows, and what is said about it. */
export function StepList({
  strip,
  beside,
  chosen,
  onChoose,
}: {
  strip: Strip;
  /** The same of production, where its query is another one. */
  beside: Strip | undefined;
  chosen: string | undefined;
  onChoose: (step: AnatomyStep) => void;
}) {
  const { steps } = strip;
  const rail = useMemo(() => railOf(steps), [steps]);
  const lanes = Math.max(...rail.map((r) => Math.max(r.lane, ...r.joins, ...r.passes) + 1));
  const most = Math.max(1, ...steps.map((s) => figureOf(strip, s, 'rows') ?? 0));
  const list = useRef<HTMLUListElement>(null);
  useEffect(() => {
    list.current?.querySelector('[aria-selected=true]')?.scrollIntoView({ block: 'nearest' });
  }, [chosen]);
  const move = (e: KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1, Home: -steps.length, End: steps.length }[e.key];
    if (by === undefined) return;
    e.preventDefault();
    const at = Math.max(
      0,
      steps.findIndex((s) => s.id === chosen),
    );
    onChoose(steps[Math.min(Math.max(0, at + by), steps.length - 1)]!);
  };
  return (
    <ul
      ref={list}
      role="listbox"
      aria-label="Steps of the query"
      tabIndex={0}
      onKeyDown={move}
      className="min-h-0 overflow-auto focus-visible:-outline-offset-2"
    >
      {steps.map((step, i) => (
        <StepLine
          key={step.id}
          n={i + 1}
          strip={strip}
          step={step}
          beside={beside}
          share={(figureOf(strip, step, 'rows') ?? 0) / most}
          rail={<Rail row={rail[i]!} lanes={lanes} isChosen={step.id === chosen} />}
          isChosen={step.id === chosen}
          onChoose={() => onChoose(step)}
        />
      ))}
    </ul>
  );
}

function StepLine({
  n,
  strip,
  step,
  beside,
  share,
  rail,
  isChosen,
  onChoose,
}: {
  n: number;
  strip: Strip;
  step: AnatomyStep;
  beside: Strip | undefined;
  share: number;
  rail: React.ReactNode;
  isChosen: boolean;
  onChoose: () => void;
}) {
  const figure = figureOf(strip, step, 'rows');
  const said = saidOf(strip, step);
  return (
    <li
      role="option"
      aria-selected={isChosen}
      onClick={onChoose}
      className={`flex h-7 cursor-pointer items-center gap-2 border-b border-line/70 px-3 ${isChosen ? 'bg-wash' : 'hover:bg-wash/60'}`}
    >
      {rail}
      <span className="w-5 shrink-0 text-right font-mono text-small text-soft">{n}</span>
      <span className="w-11 shrink-0 text-soft">{step.kind}</span>
      <span className="min-w-0 flex-1 truncate font-mono text-small" title={step.label}>
        {step.kind === 'result' ? 'what the query returns' : step.label}
        {step.name !== undefined && step.kind !== 'source' && step.kind !== 'join' && (
          <span className="text-soft"> as {step.name}</span>
        )}
      </span>
      <span className="w-16 shrink-0 text-right font-mono text-small font-semibold">
        {figure === undefined ? <span className="font-normal text-soft">–</span> : count(figure)}
      </span>
      <span className="w-12 shrink-0" aria-hidden>
        <span className="block h-1.5 bg-plan/80" style={{ width: `${Math.max(share * 100, figure ? 1 : 0)}%` }} />
      </span>
      <Beside strip={strip} beside={beside} step={step} />
      <span className="flex min-w-0 flex-1 items-center gap-1.5 truncate">
        {said.map((s, i) => (
          <SaidText key={i} said={s} isLast={i === said.length - 1} />
        ))}
      </span>
    </li>
  );
}

function SaidText({ said, isLast }: { said: Said; isLast: boolean }) {
  const tone =
    said.verdict === 'broken' ? 'text-broken' : said.verdict === 'advisory' ? 'text-advisory-text' : 'text-soft';
  return (
    <span className={`flex min-w-0 items-center gap-1 ${tone} ${isLast ? '' : 'shrink-0'}`} title={said.text}>
      {said.verdict && <VerdictMark verdict={said.verdict} size={10} label="" />}
      <span className="truncate">
        {said.text}
        {!isLast && ','}
      </span>
    </span>
  );
}

/** How many rows more or fewer the same step has here than in production. */
function Beside({ strip, beside, step }: { strip: Strip; beside: Strip | undefined; step: AnatomyStep }) {
  if (!beside) return null;
  const other = beside.steps.find((s) => s.id === step.id);
  const [here, there] = [figureOf(strip, step, 'rows'), other && figureOf(beside, other, 'rows')];
  const words =
    other === undefined
      ? 'new'
      : here === undefined || there === undefined
        ? ''
        : here === there
          ? 'same'
          : `${here > there ? '+' : '−'}${count(Math.abs(here - there))}`;
  return (
    <span
      title={other === undefined ? 'Production has no such step' : `${rows(there)} in production`}
      className={`w-14 shrink-0 text-right font-mono text-small ${words === 'same' ? 'text-soft' : 'font-semibold text-advisory-text'}`}
    >
      {words}
    </span>
  );
}
