import { Handle, Position, type Node, type NodeProps } from '@xyflow/react';
import type { Verdict } from '@ouvrage/core/check';
import { VerdictMark } from '../../shared/marks';
import { Band } from './bands';
import { NODE_HEIGHT, NODE_WIDTH } from './layout';

export type TableNode = Node<
  {
    name: string;
    full: string;
    verdict: Verdict;
    focused: boolean;
    found: boolean;
    /** Of a group: how many tables it holds. */
    count?: number;
  },
  'table'
>;

function TableBox({ data }: NodeProps<TableNode>) {
  const isGroup = data.count !== undefined;
  return (
    <div className="relative" style={{ width: NODE_WIDTH, height: NODE_HEIGHT }} title={data.full}>
      {isGroup && (
        <>
          <span aria-hidden className="absolute inset-x-1 -bottom-1 h-1 border-x border-b border-rule bg-raised" />
          <span aria-hidden className="absolute inset-x-2 -bottom-1.75 h-1 border-x border-b border-rule bg-raised" />
        </>
      )}
      <div
        className={`relative flex h-full items-center gap-2 border bg-raised px-2 font-medium ${data.focused ? 'border-2 border-plan' : data.found ? 'border-2 border-accent' : 'border-rule'}`}
      >
        <Handle type="target" position={Position.Left} isConnectable={false} className="opacity-0!" />
        <span className="flex-1 truncate">{data.name}</span>
        {isGroup && <span className="font-mono text-small text-soft">{data.count}</span>}
        <VerdictMark verdict={data.verdict} size={11} />
        <Handle type="source" position={Position.Right} isConnectable={false} className="opacity-0!" />
      </div>
    </div>
  );
}

export const NODE_TYPES = { table: TableBox, band: Band };
