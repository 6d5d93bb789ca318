import { BaseEdge, type Edge, type EdgeProps } from '@xyflow/react';
import type { Point } from './layout';
import { NODE_WIDTH } from './layout';

export type RouteEdgeType = Edge<{ readonly route: readonly Point[] }, 'route'>;

/** An arrow through the gaps of the ranks that it passes: level there, bent between them. */
function RouteEdge({ sourceX, sourceY, targetX, targetY, data, style }: EdgeProps<RouteEdgeType>) {
  return (
    <BaseEdge path={pathOf({ x: sourceX, y: sourceY }, data?.route ?? [], { x: targetX, y: targetY })} style={style} />
  );
}

/** The path of an arrow: through each gap it runs level, as wide as a box. */
export function pathOf(from: Point, route: readonly Point[], to: Point): string {
  const stops = route.flatMap(({ x, y }) => [
    { x: x - NODE_WIDTH / 2, y },
    { x: x + NODE_WIDTH / 2, y },
  ]);
  let path = `M${from.x},${from.y}`;
  let at = from;
  for (const [i, stop] of [...stops, to].entries()) {
    const isLevel = i % 2 === 1 && i < stops.length;
    const middle = (at.x + stop.x) / 2;
    path += isLevel ? ` L${stop.x},${stop.y}` : ` C${middle},${at.y} ${middle},${stop.y} ${stop.x},${stop.y}`;
    at = stop;
  }
  return path;
}

export const EDGE_TYPES = { route: RouteEdge };
