import type { PlanAnswer } from '@ouvrage/api/anatomy';
import type { Advice, PlanNode } from '@ouvrage/core/anatomy';
import { useMemo, useState } from 'react';
import { count, duration, percent, plural, rows } from '../../../shared/format';
import { Button } from '../../../shared/ui/button';
import { Empty } from '../../../shared/ui/empty';
import { Loading } from '../../../shared/ui/loading';
import { ProblemNote } from '../../../shared/ui/problem-note';
import type { Stretch } from './anatomy-panel';
import type { PlanState } from './use-query-views';

/** An estimate that is wrong by more is said. */
const WRONG = 10;

/** How the query is worked out: each node with its time, its rows and the step that it serves. */
export function PlanPanel({
  text,
  plan: state,
  onMark,
  onDeclare,
}: {
  text: string;
  plan: PlanState;
  onMark: (stretch: Stretch | undefined) => void;
  /** Puts a statement at the end of a table's definition. */
  onDeclare: ((table: string, statement: string) => void) | undefined;
}) {
  const { plan, problem, running } = state;
  const [order, setOrder] = useState<'tree' | 'time'>('tree');
  if (running) return <Loading what="Running the query for its plan" />;
  if (problem)
    return (
      <div className="h-full overflow-auto p-3">
        <ProblemNote problem={problem} />
      </div>
    );
  if (!plan)
    return (
      <Empty title="No plan yet">
        <Button onClick={() => state.run(text, 'analyze')}>Run for the plan</Button>
      </Empty>
    );
  return (
    <div className="flex h-full min-h-0 flex-col">
      {state.text !== text && (
        <p className="shrink-0 border-b border-line px-3.5 py-0.5 text-advisory-text">
          This is the plan of the text before your last edit.{' '}
          <Button tone="quiet" onClick={() => state.run(text, 'analyze')}>
            Run again
          </Button>
        </p>
      )}
      {plan.endedBehind !== undefined && (
        <p className="shrink-0 border-b border-line px-3.5 py-1 text-broken">
          The query was ended at the limit of {plan.endedBehind} s: this is the planner’s estimate, without real rows
          and times.
        </p>
      )}
      {plan.advice.map((advice, i) => (
        <AdviceLine key={i} advice={advice} onDeclare={onDeclare} />
      ))}
      <Nodes plan={plan} order={order} setOrder={setOrder} onMark={onMark} isCurrent={state.text === text} />
    </div>
  );
}

function AdviceLine({
  advice,
  onDeclare,
}: {
  advice: Advice;
  onDeclare: Parameters<typeof PlanPanel>[0]['onDeclare'];
}) {
  const { statement, table } = advice;
  return (
    <div className="flex shrink-0 items-baseline gap-2 border-b border-line bg-wash/60 px-3.5 py-1">
      <p className="min-w-0 flex-1">
        {advice.reason}
        {statement !== undefined && <code className="ml-2 font-mono text-small">{statement}</code>}
      </p>
      {statement !== undefined && onDeclare && (
        <Button tone="quiet" onClick={() => onDeclare(table, statement)}>
          Add to {table}
        </Button>
      )}
    </div>
  );
}

const HEADS = ['node', 'own time', 'rows', 'estimated', 'loops', 'read', 'step'] as const;

function Nodes({
  plan,
  order,
  setOrder,
  onMark,
  isCurrent,
}: {
  plan: PlanAnswer;
  order: 'tree' | 'time';
  setOrder: (order: 'tree' | 'time') => void;
  onMark: (stretch: Stretch | undefined) => void;
  isCurrent: boolean;
}) {
  const weight = (n: PlanNode) => n.ownTime ?? n.ownCost;
  const whole = Math.max(
    0.001,
    plan.nodes.reduce((sum, n) => sum + weight(n), 0),
  );
  const nodes = useMemo(
    () => (order === 'tree' ? plan.nodes : [...plan.nodes].sort((a, b) => weight(b) - weight(a))),
    [plan, order],
  );
  return (
    <div className="min-h-0 flex-1 overflow-auto">
      <table className="w-full">
        <thead className="sticky top-0 bg-sheet">
          <tr className="border-b border-rule text-small">
            {HEADS.map((head) => (
              <th
                key={head}
                scope="col"
                className={`px-2.5 py-1 font-medium whitespace-nowrap ${head === 'node' || head === 'step' ? 'text-left' : 'text-right'}`}
              >
                {head === 'node' ? (
                  <span className="flex items-center gap-2">
                    node
                    <Button tone="quiet" className="h-5!" onClick={() => setOrder(order === 'tree' ? 'time' : 'tree')}>
                      {order === 'tree' ? 'by own time' : 'as a tree'}
                    </Button>
                  </span>
                ) : (
                  head
                )}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {nodes.map((node) => (
            <NodeLine
              key={node.id}
              node={node}
              plan={plan}
              indent={order === 'tree' ? node.depth : 0}
              share={weight(node) / whole}
              onMark={isCurrent ? onMark : undefined}
            />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function NodeLine({
  node,
  plan,
  indent,
  share,
  onMark,
}: {
  node: PlanNode;
  plan: PlanAnswer;
  indent: number;
  share: number;
  onMark: ((stretch: Stretch) => void) | undefined;
}) {
  const at = plan.steps.findIndex((s) => s.id === node.step);
  const step = plan.steps[at];
  const estimated = node.estimatedRows * (node.loops ?? 1);
  const factor = node.rows === undefined ? 1 : Math.max(node.rows, 1) / Math.max(estimated, 1);
  const isWrong = factor > WRONG || factor < 1 / WRONG;
  const number = 'px-2.5 text-right align-top font-mono text-small whitespace-nowrap';
  return (
    <tr className="border-b border-line/60">
      <td className="max-w-0 min-w-72 w-1/2 px-2.5 py-0.5" style={{ paddingLeft: 10 + indent * 14 }}>
        <span className="font-medium">{node.type}</span>
        {(node.relation ?? node.alias) !== undefined && (
          <span className="ml-1.5 font-mono text-small">
            {node.relation ? node.relation.name : ''} {node.alias !== node.relation?.name && node.alias}
          </span>
        )}
        {[node.condition, node.filter, node.joinFilter]
          .filter((c) => c !== undefined)
          .map((c, i) => (
            <span key={i} className="ml-1.5 block truncate font-mono text-small text-soft" title={c}>
              {c}
            </span>
          ))}
        {node.removed !== undefined && <span className="block text-small text-soft">{rows(node.removed)} removed</span>}
        {node.spilled !== undefined && (
          <span className="block text-small text-advisory-text">{count(node.spilled)} kB written to disk</span>
        )}
      </td>
      <td className={number}>
        {node.ownTime === undefined ? percent(share) : fine(node.ownTime)}
        <span aria-hidden className="ml-auto block h-1 bg-plan/80" style={{ width: `${Math.round(share * 60)}px` }} />
      </td>
      <td className={number}>{node.rows === undefined ? '–' : count(node.rows)}</td>
      <td
        className={`${number} ${isWrong ? 'font-semibold text-advisory-text' : ''}`}
        title={isWrong ? 'More than ten times off' : undefined}
      >
        {count(Math.round(estimated))}
        {isWrong && (
          <span className="block">
            {factor > 1 ? `${count(Math.round(factor))} × too few` : `${count(Math.round(1 / factor))} × too many`}
          </span>
        )}
      </td>
      <td className={number}>{node.loops === undefined ? '–' : count(node.loops)}</td>
      <td className={number} title="Pages of 8 kB, in memory and from disk">
        {node.hitBlocks === undefined ? '–' : count((node.hitBlocks + (node.readBlocks ?? 0)) * 8)}
        {node.hitBlocks !== undefined && ' kB'}
      </td>
      <td className="px-2.5 align-top whitespace-nowrap">
        {step &&
          (onMark ? (
            <Button tone="quiet" className="h-5!" onClick={() => onMark({ start: step.start, end: step.end })}>
              {at + 1} {step.kind}
            </Button>
          ) : (
            `${at + 1} ${step.kind}`
          ))}
      </td>
    </tr>
  );
}

/** `0.48 ms`; longer ones as durations are. */
const fine = (milliseconds: number) => (milliseconds < 10 ? `${milliseconds.toFixed(2)} ms` : duration(milliseconds));

/** Time and nodes of a plan in a few words. */
export const planFigures = (plan: PlanAnswer): string =>
  `${plural(plan.nodes.length, 'node')}${plan.executionTime === null ? ', not run' : `, ${duration(plan.executionTime)}`}`;
