import ELK, { type ElkNode } from 'elkjs/lib/elk-api.js';
import workerAddress from 'elkjs/lib/elk-worker.min.js?url';

export const NODE_WIDTH = 158;
export const NODE_HEIGHT = 27;

export interface Placed {
  readonly positions: ReadonlyMap<string, { readonly x: number; readonly y: number }>;
  readonly height: number;
}

let elk: InstanceType<typeof ELK> | undefined;

/**
 * Lays tables out from left to right: a layer is a band of as many ranks as it needs, so that no
 * arrow runs back. Runs in elkjs' own worker.
 * @param tables names with their layer's position
 */
export async function layOut(
  tables: readonly {
    readonly name: string;
    readonly layer: number;
    readonly width?: number;
    readonly height?: number;
  }[],
  edges: readonly (readonly [string, string])[],
  /** Pixels between ranks. */
  gap = 70,
): Promise<Placed> {
  elk ??= new ELK({ workerFactory: () => new Worker(workerAddress), algorithms: ['layered'] });
  const graph: ElkNode = {
    id: 'root',
    layoutOptions: {
      'elk.algorithm': 'layered',
      'elk.direction': 'RIGHT',
      'elk.partitioning.activate': 'true',
      'elk.layered.spacing.nodeNodeBetweenLayers': String(gap),
      'elk.spacing.nodeNode': '16',
      'elk.separateConnectedComponents': 'false',
      'elk.layered.nodePlacement.strategy': 'BRANDES_KOEPF',
    },
    children: tables.map((t) => ({
      id: t.name,
      width: t.width ?? NODE_WIDTH,
      height: t.height ?? NODE_HEIGHT,
      layoutOptions: { 'elk.partitioning.partition': String(t.layer) },
    })),
    edges: edges.map(([from, to], i) => ({ id: `e${i}`, sources: [from], targets: [to] })),
  };
  const done = await elk.layout(graph);
  const positions = new Map((done.children ?? []).map((n) => [n.id, { x: n.x ?? 0, y: n.y ?? 0 }]));
  return { positions, height: done.height ?? 0 };
}
