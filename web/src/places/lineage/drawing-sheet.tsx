import { Controls, ReactFlow, type Node, type NodeTypes } from '@xyflow/react';
import { useRef } from 'react';
import type { Placed } from './layout';
import { EDGE_TYPES, type RouteEdgeType } from './route-edge';
import { useFit } from './use-fit';

/** Boxes that are more than this are drawn only where they are in sight. */
const MOST_AT_ONCE = 60;

/** A drawing of boxes and arrows that is moved and zoomed, and begins where its names can be read. */
export function DrawingSheet({
  placed,
  focus,
  nodes,
  edges,
  nodeTypes,
  onClick,
  onDoubleClick,
}: {
  placed: Placed;
  /** The box to begin at. */
  focus: string | undefined;
  nodes: Node[];
  edges: RouteEdgeType[];
  nodeTypes: NodeTypes;
  onClick?: (node: Node) => void;
  onDoubleClick: (node: Node) => void;
}) {
  const sheet = useRef<HTMLDivElement>(null);
  useFit(placed, sheet, focus);
  return (
    <div ref={sheet} className="h-full">
      <ReactFlow
        nodes={nodes}
        edges={edges}
        nodeTypes={nodeTypes}
        edgeTypes={EDGE_TYPES}
        onNodeClick={(_, node) => onClick?.(node)}
        onNodeDoubleClick={(_, node) => onDoubleClick(node)}
        minZoom={0.05}
        maxZoom={1.6}
        onlyRenderVisibleElements={nodes.length > MOST_AT_ONCE}
        nodesDraggable={false}
        elementsSelectable={false}
        proOptions={{ hideAttribution: true }}
      >
        <Controls showInteractive={false} position="bottom-left" />
      </ReactFlow>
    </div>
  );
}
