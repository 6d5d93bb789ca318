import {
  Background,
  BackgroundVariant,
  Controls,
  Handle,
  Position,
  ReactFlow,
  ReactFlowProvider,
  useReactFlow,
  type Edge,
  type Node,
  type NodeProps,
} from '@xyflow/react';
import '@xyflow/react/dist/style.css';
import type { Verdict } from '@ouvrage/core/check';
import { useEffect, useMemo, useState } from 'react';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { ago, count, plural } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { SectionTitle } from '../../shared/ui/section-title';
import { Loading } from '../../shared/ui/loading';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { ChooseTable } from './choose-table';
import { Band, bandsOf, type BandNode } from './bands';
import { ColumnPanel, ColumnWay } from './column-way';
import { focusOn } from './focus';
import { layOut, NODE_HEIGHT, NODE_WIDTH, type Placed } from './layout';

type TableNode = Node<{ name: string; full: string; verdict: Verdict; focused: boolean; found: boolean }, 'table'>;

/** Laying out more takes longer than anybody waits. */
const MOST_DRAWN = 200;
/** No project is as deep. */
const ALL_STEPS = 999;

export default function Lineage() {
  const [search] = useSearchParams();
  const [table, column] = [search.get('focus'), search.get('column')];
  const of = useMemo(() => (table && column ? { table, column } : undefined), [table, column]);
  return (
    <ReactFlowProvider>
      {of ? (
        <div className="flex h-full min-h-0">
          <ColumnWay of={of} />
          <ColumnPanel of={of} />
        </div>
      ) : (
        <LineageSheet />
      )}
    </ReactFlowProvider>
  );
}

function LineageSheet() {
  const { slug, summary, tables, states } = useProject();
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const [text, setText] = useState('');
  const focus = search.get('focus') ?? undefined;
  // Where there are many tables, all that one depends on may be most of them.
  const usual = summary.tables.length > MOST_DRAWN ? 2 : ALL_STEPS;
  const up = Number(search.get('up') ?? usual);
  const down = Number(search.get('down') ?? usual);
  const shown = useMemo(() => focusOn(summary.tables, focus, up, down), [summary.tables, focus, up, down]);
  const isTooMany = shown.tables.length > MOST_DRAWN;
  const placed = usePlaced(isTooMany ? undefined : shown);
  const flow = useReactFlow();

  const nodes = useMemo((): (TableNode | BandNode)[] => {
    if (!placed) return [];
    const bands = bandsOf(
      summary.layers.map((l) => l.name),
      shown.tables,
      placed,
    );
    return [
      ...bands,
      ...shown.tables.flatMap((t): TableNode[] => {
        const position = placed.positions.get(t.fullName);
        if (!position) return [];
        const found = text !== '' && t.fullName.includes(text.toLowerCase());
        return [
          {
            id: t.fullName,
            type: 'table',
            position,
            data: {
              name: t.name,
              full: t.fullName,
              verdict: states.get(t.fullName)?.verdict ?? 'not run',
              focused: t.fullName === focus,
              found,
            },
            draggable: false,
            connectable: false,
            ariaLabel: t.fullName,
          },
        ];
      }),
    ];
  }, [placed, shown, summary.layers, states, focus, text]);

  const edges = useMemo(
    (): Edge[] =>
      shown.edges.map(([from, to]) => ({
        id: `${from} ${to}`,
        source: from,
        target: to,
        focusable: false,
        style: {
          stroke: from === focus || to === focus ? 'var(--plan)' : 'var(--rule)',
          strokeWidth: from === focus || to === focus ? 1.8 : 1,
        },
      })),
    [shown.edges, focus],
  );

  useEffect(() => {
    if (placed) requestAnimationFrame(() => void flow.fitView({ padding: 0.04, maxZoom: 1 }));
  }, [placed, flow]);

  const choose = (table: string | undefined, hops: { up?: number; down?: number } = {}) =>
    setSearch(table ? { focus: table, up: String(hops.up ?? up), down: String(hops.down ?? down) } : {});
  const find = () => {
    const hit =
      shown.tables.find((t) => t.name.startsWith(text.toLowerCase())) ??
      shown.tables.find((t) => t.fullName.includes(text.toLowerCase()));
    if (hit) choose(hit.fullName);
  };
  if (summary.tables.length === 0) return <Empty title="Nothing to show yet">Write a first definition.</Empty>;
  return (
    <div className="flex h-full min-h-0">
      <section aria-label="Lineage" className="flex min-w-0 flex-1 flex-col bg-sheet">
        <div className="flex h-strip shrink-0 items-center gap-2 border-b border-line px-3.5">
          <h1 className="sheet-title mr-2 truncate">{focus ?? 'All tables'}</h1>
          {focus && (
            <>
              <Hops label="upstream" value={up} onChange={(n) => choose(focus, { up: n })} />
              <Hops label="downstream" value={down} onChange={(n) => choose(focus, { down: n })} />
              <Button onClick={() => choose(undefined)}>All tables</Button>
            </>
          )}
          <span className="flex-1" />
          <form
            onSubmit={(e) => {
              e.preventDefault();
              find();
            }}
          >
            <input
              value={text}
              onChange={(e) => setText(e.target.value)}
              placeholder="Search, then Enter"
              aria-label="Search tables"
              className="h-control w-44 rounded-edge border border-rule bg-raised px-2"
            />
          </form>
          <span className="text-small whitespace-nowrap text-soft">
            {count(shown.tables.length)} of {plural(summary.tables.length, 'table')}
          </span>
        </div>
        <div className="min-h-0 flex-1">
          {isTooMany ? (
            <ChooseTable tables={shown.tables} filter={text} onChoose={(table) => choose(table)} />
          ) : placed ? (
            <ReactFlow
              nodes={nodes}
              edges={edges}
              nodeTypes={NODE_TYPES}
              onNodeClick={(_, node) => node.type === 'table' && choose(node.id)}
              onNodeDoubleClick={(_, node) => node.type === 'table' && void navigate(address.table(slug, node.id))}
              minZoom={0.05}
              maxZoom={1.6}
              onlyRenderVisibleElements={nodes.length > 200}
              nodesDraggable={false}
              elementsSelectable={false}
              proOptions={{ hideAttribution: true }}
            >
              <Background variant={BackgroundVariant.Lines} gap={1e6} />
              <Controls showInteractive={false} position="bottom-left" />
            </ReactFlow>
          ) : (
            <Loading what="Laying out the tables" />
          )}
        </div>
      </section>
      {focus && tables.has(focus) && <FocusPanel table={focus} onFocus={(t) => choose(t)} />}
    </div>
  );
}

function usePlaced(shown: ReturnType<typeof focusOn> | undefined): Placed | undefined {
  const { summary } = useProject();
  const [result, setResult] = useState<{ of: unknown; placed: Placed }>();
  useEffect(() => {
    if (!shown) return;
    let current = true;
    const layer = (name: string) =>
      Math.max(
        0,
        summary.layers.findIndex((l) => l.name === name),
      );
    void layOut(
      shown.tables.map((t) => ({ name: t.fullName, layer: layer(t.layer) })),
      shown.edges,
    ).then((placed) => current && setResult({ of: shown, placed }));
    return () => {
      current = false;
    };
  }, [shown, summary.layers]);
  return shown && result?.of === shown ? result.placed : undefined;
}

function Hops({ label, value, onChange }: { label: string; value: number; onChange: (n: number) => void }) {
  return (
    <label className="flex items-center gap-1 text-small text-soft">
      {label}
      <select
        value={value}
        onChange={(e) => onChange(Number(e.target.value))}
        className="h-control-small rounded-edge border border-rule bg-raised px-1 text-ink"
      >
        {[0, 1, 2, 3].map((n) => (
          <option key={n} value={n}>
            {n === 1 ? '1 step' : `${n} steps`}
          </option>
        ))}
        <option value={ALL_STEPS}>all</option>
      </select>
    </label>
  );
}

function TableBox({ data }: NodeProps<TableNode>) {
  return (
    <div
      className={`flex items-center gap-2 border bg-raised px-2 font-medium ${data.focused ? 'border-2 border-plan' : data.found ? 'border-2 border-accent' : 'border-rule'}`}
      style={{ width: NODE_WIDTH, height: NODE_HEIGHT }}
      title={data.full}
    >
      <Handle type="target" position={Position.Left} isConnectable={false} className="opacity-0!" />
      <span className="flex-1 truncate">{data.name}</span>
      <VerdictMark verdict={data.verdict} size={11} />
      <Handle type="source" position={Position.Right} isConnectable={false} className="opacity-0!" />
    </div>
  );
}

const NODE_TYPES = { table: TableBox, band: Band };

/** The table in focus: what it is, what it is made from and what it feeds. */
function FocusPanel({ table, onFocus }: { table: string; onFocus: (table: string) => void }) {
  const { slug, tables, states, checks, summary } = useProject();
  const chosen = tables.get(table)!;
  const state = states.get(table);
  const readers = summary.tables.filter((t) => t.reads.includes(table)).map((t) => t.fullName);
  const own = checks.filter((c) => c.table === table && (c.verdict === 'broken' || c.verdict === 'advisory'));
  const list = (names: readonly string[], none: string) =>
    names.length === 0 ? (
      <p className="text-soft">{none}</p>
    ) : (
      <ul>
        {names.map((n) => (
          <li key={n}>
            <button
              type="button"
              onClick={() => onFocus(n)}
              className="flex min-h-6 items-center gap-2 hover:text-plan hover:underline"
            >
              <VerdictMark verdict={states.get(n)?.verdict ?? 'not run'} size={11} /> {n}
            </button>
          </li>
        ))}
      </ul>
    );
  return (
    <aside
      aria-label={table}
      className="flex w-72.5 shrink-0 flex-col gap-4 overflow-auto border-l border-line bg-paper p-4"
    >
      <header>
        <h2 className="sheet-title">{table}</h2>
        {chosen.comment && <p className="mt-1">{chosen.comment}</p>}
        <p className="mt-1 text-small text-soft">
          {chosen.policy}, {state?.rows ? `${count(state.rows)} rows` : 'rows not counted'}, loaded{' '}
          {ago(state?.loadedAt)}
        </p>
        <p className="flex gap-4">
          <Link to={address.table(slug, table)} className="text-plan underline">
            Open the bench
          </Link>
          <Link to={address.table(slug, table, 'trace')} className="text-plan underline">
            Trace its columns
          </Link>
        </p>
      </header>
      <section className="flex flex-col gap-1">
        <SectionTitle>Made from</SectionTitle>
        {list(chosen.reads, chosen.kind === 'source' ? 'a system outside the warehouse' : 'nothing in the project')}
      </section>
      <section className="flex flex-col gap-1">
        <SectionTitle>Feeds</SectionTitle>
        {list(readers, 'nothing else in the project')}
      </section>
      {own.length > 0 && (
        <section className="flex flex-col gap-1">
          <SectionTitle>Failing checks</SectionTitle>
          {own.map((c) => (
            <Link
              key={c.id}
              to={address.check(slug, c.id)}
              className="flex min-h-6 items-center gap-2 hover:text-plan hover:underline"
            >
              <VerdictMark verdict={c.verdict} size={11} /> {c.title}
            </Link>
          ))}
        </section>
      )}
    </aside>
  );
}
