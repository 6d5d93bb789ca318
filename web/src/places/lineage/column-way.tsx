import { Handle, Position, type Node, type NodeProps } from '@xyflow/react';
import type { Verdict } from '@ouvrage/core/check';
import { useMemo, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { plural } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Button } from '../../shared/ui/button';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import type { ColumnRef, TraceAnswer } from '../../worker/protocol';
import { Band, bandsOf, type BandNode } from './bands';
import { DrawingSheet } from './drawing-sheet';
import { Derivation } from './derivation';
import { layOut, NODE_HEIGHT, NODE_WIDTH, type Placed, type Point } from './layout';
import type { RouteEdgeType } from './route-edge';
import { useTrace } from './use-trace';
import { wayGraph, type Direction, type WayGraph, type WayRole } from './way-graph';

/** A line is a link: 24 pixels at the smallest size that is shown. */
const LINE_HEIGHT = 27;
/** Between ranks: as little as lets the lines be told apart, so that more ranks fit beside each other. */
const GAP = 40;

type WayNode = Node<
  { name: string; full: string; verdict: Verdict; columns: readonly { column: string; role: WayRole }[] },
  'way'
>;

/** The way of one column, drawn: tables open into the columns that take part. */
export function ColumnWay({ of }: { of: ColumnRef }) {
  const [direction, setDirection] = useState<Direction>('both');
  const { slug } = useProject();
  const trace = useTrace(of);
  const graph = useGraph(trace, direction);
  return (
    <section aria-label="Lineage" className="flex min-w-0 flex-1 flex-col bg-sheet">
      <div className="flex h-strip shrink-0 items-center gap-2 border-b border-line px-3.5">
        <h1 className="sheet-title mr-2 truncate" title={`${of.table}.${of.column}`}>
          {of.table}.{of.column}
        </h1>
        <div role="group" aria-label="Direction" className="flex gap-1.5">
          {(['upstream', 'downstream', 'both'] as const).map((d) => (
            <Button
              key={d}
              aria-pressed={direction === d}
              className={direction === d ? 'border-plan bg-wash text-plan' : ''}
              onClick={() => setDirection(d)}
            >
              {d[0]!.toUpperCase() + d.slice(1)}
            </Button>
          ))}
        </div>
        <span className="flex-1" />
        <span className="text-small whitespace-nowrap text-soft">{graph && plural(graph.tables.length, 'table')}</span>
        <Link to={address.lineage(slug, of.table)} className="font-medium whitespace-nowrap text-plan hover:underline">
          Tables around it
        </Link>
      </div>
      <div className="min-h-0 flex-1">
        {trace === null ? (
          <Empty title="This column does not exist here">
            <p>It may have been renamed or removed. Choose a column on the Trace page of its table.</p>
            <Link to={address.table(slug, of.table, 'trace')} className="text-plan underline">
              Columns of {of.table}
            </Link>
          </Empty>
        ) : !graph ? (
          <Loading what="Following the column" />
        ) : (
          <Drawing graph={graph} focus={of.table} />
        )}
      </div>
      <p className="flex h-7 shrink-0 items-center gap-5 border-t border-line px-3.5 text-small text-soft">
        <span className="flex items-center gap-1.5">
          <span aria-hidden className="w-7 border-t-2 border-plan" /> gives the value
        </span>
        <span className="flex items-center gap-1.5">
          <span aria-hidden className="w-7 border-t-2 border-dashed border-soft" /> decides rows, groups or order
        </span>
      </p>
    </section>
  );
}

/** The derivation beside the drawing. */
export function ColumnPanel({ of }: { of: ColumnRef }) {
  const { slug } = useProject();
  const trace = useTrace(of);
  if (!trace) return null;
  return (
    <aside
      aria-label={`${of.table}.${of.column}`}
      className="w-82.5 shrink-0 overflow-auto border-l border-line bg-paper p-4"
    >
      <Derivation trace={trace} addressOf={(column) => address.way(slug, column)} />
    </aside>
  );
}

function useGraph(trace: TraceAnswer | null | undefined, direction: Direction): WayGraph | undefined {
  const { tables } = useProject();
  return useMemo(() => {
    if (!trace) return undefined;
    const refOf = (id: string): ColumnRef | undefined => {
      for (let dot = id.lastIndexOf('.'); dot > 0; dot = id.lastIndexOf('.', dot - 1))
        if (tables.has(id.slice(0, dot))) return { table: id.slice(0, dot), column: id.slice(dot + 1) };
      return undefined;
    };
    return wayGraph(trace, direction, refOf);
  }, [trace, direction, tables]);
}

function Drawing({ graph, focus }: { graph: WayGraph; focus: string }) {
  const { slug, summary, tables, states } = useProject();
  const navigate = useNavigate();
  const placed = usePlaced(graph);
  const nodes = useMemo((): (WayNode | BandNode)[] => {
    const shown = graph.tables.flatMap(({ table }) => tables.get(table) ?? []);
    return [
      ...bandsOf(
        summary.layers.map((l) => l.name),
        shown,
        placed,
      ),
      ...graph.tables.flatMap(({ table, columns }): WayNode[] => {
        const position = placed.positions.get(table);
        const verdict = states.get(table)?.verdict ?? 'not run';
        const name = tables.get(table)?.name ?? table;
        return position
          ? [
              {
                id: table,
                type: 'way',
                position,
                data: { name, full: table, verdict, columns },
                draggable: false,
                connectable: false,
                ariaLabel: table,
              },
            ]
          : [];
      }),
    ];
  }, [placed, graph, summary.layers, tables, states]);
  const edges = useMemo((): RouteEdgeType[] => {
    const lanes = lanesOf(graph);
    return graph.edges.map(({ from, to, kind }) => ({
      id: `${from.table}.${from.column} ${to.table}.${to.column}`,
      type: 'route' as const,
      data: {
        route: besides(placed.routes.get(`${from.table} ${to.table}`) ?? [], lanes.get(`${from.table} ${to.table}`)!),
      },
      source: from.table,
      sourceHandle: `${from.column} out`,
      target: to.table,
      targetHandle: `${to.column} in`,
      focusable: false,
      style:
        kind === 'value'
          ? { stroke: 'var(--plan)', strokeWidth: 1.8 }
          : { stroke: 'var(--soft)', strokeWidth: 1.2, strokeDasharray: '5 4' },
    }));
  }, [graph, placed]);
  return (
    <DrawingSheet
      placed={placed}
      focus={focus}
      nodes={nodes}
      edges={edges}
      nodeTypes={NODE_TYPES}
      onDoubleClick={(node) => node.type === 'way' && void navigate(address.table(slug, node.id))}
    />
  );
}

/** Between arrows of the same two tables, in pixels: dashes that lie on each other look like a line. */
const LANE = 3;

/** A route for the next of the arrows between two tables, each in a lane of its own. */
function besides(route: readonly Point[], lanes: { readonly count: number; next: number }): readonly Point[] {
  const shift = (lanes.next++ - (lanes.count - 1) / 2) * LANE;
  return route.map(({ x, y }) => ({ x, y: y + shift }));
}

function lanesOf(graph: WayGraph): Map<string, { readonly count: number; next: number }> {
  const counts = new Map<string, number>();
  for (const { from, to } of graph.edges) {
    const key = `${from.table} ${to.table}`;
    counts.set(key, (counts.get(key) ?? 0) + 1);
  }
  return new Map([...counts].map(([key, count]) => [key, { count, next: 0 }]));
}

function usePlaced(graph: WayGraph): Placed {
  const { summary, tables } = useProject();
  return useMemo(() => {
    const layerOf = (table: string) =>
      Math.max(
        0,
        summary.layers.findIndex((l) => l.name === tables.get(table)?.layer),
      );
    const boxes = graph.tables.map((t) => ({
      name: t.table,
      layer: layerOf(t.table),
      height: NODE_HEIGHT + LINE_HEIGHT * t.columns.length,
    }));
    return layOut(
      boxes,
      graph.edges.map(({ from, to }) => [from.table, to.table]),
      GAP,
    );
  }, [graph, summary.layers, tables]);
}

const ROLE_LOOK: Readonly<Record<WayRole, string>> = {
  chosen: 'bg-plan text-plan-text',
  value: 'bg-wash text-plan',
  influence: 'text-soft italic',
};

function WayBox({ data }: NodeProps<WayNode>) {
  const { slug } = useProject();
  return (
    <div className="border border-rule bg-raised" style={{ width: NODE_WIDTH }} title={data.full}>
      <div className="flex items-center gap-2 px-2 font-medium" style={{ height: NODE_HEIGHT }}>
        <span className="flex-1 truncate">{data.name}</span>
        <VerdictMark verdict={data.verdict} size={11} />
      </div>
      {data.columns.map(({ column, role }) => (
        <Link
          key={column}
          to={address.way(slug, { table: data.full, column })}
          className={`relative block truncate border-t border-line px-2 font-mono text-small hover:underline ${ROLE_LOOK[role]}`}
          style={{ height: LINE_HEIGHT, lineHeight: `${LINE_HEIGHT}px` }}
          title={column}
        >
          <Handle
            id={`${column} in`}
            type="target"
            position={Position.Left}
            isConnectable={false}
            className="opacity-0!"
          />
          {column}
          <Handle
            id={`${column} out`}
            type="source"
            position={Position.Right}
            isConnectable={false}
            className="opacity-0!"
          />
        </Link>
      ))}
    </div>
  );
}

const NODE_TYPES = { way: WayBox, band: Band };
