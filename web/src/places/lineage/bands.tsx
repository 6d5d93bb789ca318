import type { Node, NodeProps } from '@xyflow/react';
import { Hatch } from '../../shared/marks';
import { NODE_WIDTH, type Placed } from './layout';

export type BandNode = Node<{ label: string; position: number; height: number; width: number }, 'band'>;

const BAND_HEAD = 34;
const PAD = 22;

/** The bands of the layers behind the tables that are drawn. */
export function bandsOf(
  layers: readonly string[],
  tables: readonly { readonly fullName: string; readonly layer: string }[],
  placed: Placed,
): BandNode[] {
  return layers.flatMap((label, position): BandNode[] => {
    const xs = tables.filter((t) => t.layer === label).map((t) => placed.positions.get(t.fullName)?.x ?? 0);
    if (xs.length === 0) return [];
    const left = Math.min(...xs) - PAD;
    const width = Math.max(...xs) + NODE_WIDTH + PAD - left;
    const height = placed.height + BAND_HEAD + 2 * PAD;
    return [
      {
        id: `band ${label}`,
        type: 'band',
        position: { x: left, y: -BAND_HEAD - PAD },
        data: { label, position, height, width },
        draggable: false,
        selectable: false,
        focusable: false,
        zIndex: -1,
      },
    ];
  });
}

export function Band({ data }: NodeProps<BandNode>) {
  return (
    <div
      className="pointer-events-none border-x border-dashed border-line"
      style={{ width: data.width, height: data.height }}
    >
      <div className="flex items-center gap-2 border-b border-line px-3" style={{ height: BAND_HEAD }}>
        <Hatch position={data.position} />
        <span className="caps">{data.label}</span>
      </div>
    </div>
  );
}
