import {
  Background,
  BackgroundVariant,
  Controls,
  Handle,
  Position,
  ReactFlow,
  type Edge,
  type Node,
  type NodeProps,
} from '@xyflow/react';
import '@xyflow/react/dist/style.css';
import type { Step } from '@ouvrage/core/starter';
import { useMemo } from 'react';
import { layOut } from '../lineage/layout';

/** A table of the diagram: the base, or one that a step leads to. */
export interface DiagramTable {
  readonly id: string;
  readonly table: string;
  readonly columns: readonly string[];
  readonly ticked: readonly string[];
  /** Several of its rows belong to one row of the table that it hangs on: columns are ticked after a summary. */
  readonly many: boolean;
  readonly onTick?: (column: string, on: boolean) => void;
}

export interface DiagramEdge {
  readonly from: string;
  readonly to: string;
  readonly step: Step;
}

type TableNode = Node<{ table: DiagramTable; isBase: boolean }, 'table'>;

const WIDTH = 178;
const HEAD = 30;
const LINE = 25;
const heightOf = (t: DiagramTable) => HEAD + Math.max(1, t.columns.length) * LINE + 6;

/** The tables around one, as a drawing: columns are ticked where they are. Solid lines are declared, dashed ones guessed. */
export function RelationDiagram({ tables, edges }: { tables: readonly DiagramTable[]; edges: readonly DiagramEdge[] }) {
  const shape = `${tables.map((t) => `${t.id}:${t.columns.length}`).join()}|${edges.map((e) => `${e.from}>${e.to}`).join()}`;
  const placed = useMemo(() => {
    const boxes = tables.map((t, i) => ({ name: t.id, layer: i === 0 ? 0 : 1, width: WIDTH, height: heightOf(t) }));
    return layOut(
      boxes,
      edges.map((e) => [e.from, e.to]),
    );
    // Ticks change nothing of the layout.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [shape]);
  const nodes = useMemo(
    (): TableNode[] =>
      tables.flatMap((t, i) => {
        const position = placed.positions.get(t.id);
        return position
          ? [
              {
                id: t.id,
                type: 'table',
                position,
                data: { table: t, isBase: i === 0 },
                draggable: true,
                connectable: false,
                focusable: false,
              },
            ]
          : [];
      }),
    [tables, placed],
  );
  const lines = useMemo(
    (): Edge[] =>
      edges.map((e, i) => ({
        id: String(i),
        source: e.from,
        target: e.to,
        focusable: false,
        label: `${e.step.fromColumns.join(', ')}${e.step.toOne ? '' : ' (several)'}`,
        labelStyle: { fontFamily: 'IBM Plex Mono', fontSize: 10, fill: 'var(--soft)' },
        labelBgStyle: { fill: 'var(--sheet)' },
        style: { stroke: 'var(--rule)', ...(e.step.declared ? {} : { strokeDasharray: '5 4' }) },
      })),
    [edges],
  );
  return (
    <ReactFlow
      nodes={nodes}
      edges={lines}
      nodeTypes={NODE_TYPES}
      fitView
      fitViewOptions={{ maxZoom: 1, padding: 0.08 }}
      minZoom={0.3}
      proOptions={{ hideAttribution: true }}
    >
      <Background variant={BackgroundVariant.Dots} gap={18} size={1} color="var(--line)" />
      <Controls showInteractive={false} />
    </ReactFlow>
  );
}

function TableBox({ data: { table, isBase } }: NodeProps<TableNode>) {
  return (
    <div
      className={`border bg-raised text-small ${isBase ? 'border-2 border-ink' : 'border-rule'}`}
      style={{ width: WIDTH }}
    >
      <Handle type="target" position={Position.Left} className="opacity-0!" />
      <p className="truncate border-b border-line px-2 py-1 font-medium" title={table.table}>
        {table.table}
      </p>
      {table.columns.map((c) => (
        <label key={c} className="nodrag flex h-control-small items-center gap-1.5 px-2">
          <input
            type="checkbox"
            disabled={!table.onTick}
            checked={table.ticked.includes(c)}
            onChange={(e) => table.onTick?.(c, e.target.checked)}
            aria-label={`${c} of ${table.table}`}
          />
          <span className="truncate">{c}</span>
        </label>
      ))}
      {table.many && <p className="px-2 pb-1 text-soft">several rows: add it in the list</p>}
      <Handle type="source" position={Position.Right} className="opacity-0!" />
    </div>
  );
}

const NODE_TYPES = { table: TableBox };
