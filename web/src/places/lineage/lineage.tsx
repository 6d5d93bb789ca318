import { ReactFlowProvider } from '@xyflow/react';
import '@xyflow/react/dist/style.css';
import type { Verdict } from '@ouvrage/core/check';
import { useMemo, useRef, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { count, plural } from '../../shared/format';
import { Button } from '../../shared/ui/button';
import { Empty } from '../../shared/ui/empty';
import { bandsOf, type BandNode } from './bands';
import { NODE_TYPES, type TableNode } from './boxes';
import { ColumnPanel, ColumnWay } from './column-way';
import { FocusPanel } from './focus-panel';
import { focusOn, type Shown } from './focus';
import { fold, layersToFold, type Folded } from './fold';
import { layOut } from './layout';
import type { RouteEdgeType } from './route-edge';
import { DrawingSheet } from './drawing-sheet';
import { CoveragePanel, UnreadPanel } from './project-panels';
import { useAsked } from './use-asked';
import { LEAST_ZOOM, MARGIN, useWidth } from './use-fit';

/** Around one table more than these are folded, too. */
const MOST_APART = 60;
/** Of projects with more tables, the steps around one are few at first. */
const MANY = 200;
/** No project is as deep. */
const ALL_STEPS = 999;
/** Pixels between ranks. */
const GAP = 40;

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
  const { summary, tables } = useProject();
  const [search, setSearch] = useSearchParams();
  const [text, setText] = useState('');
  const [panel, setPanel] = useState<'unread' | 'coverage'>();
  const unread = useAsked('unread');
  const coverage = useAsked('coverage');
  const missing = coverage?.reduce((n, c) => n + c.missing.length, 0);
  const focus = search.get('focus') ?? undefined;
  // Where there are many tables, all that one depends on may be most of them.
  const usual = summary.tables.length > MANY ? 2 : ALL_STEPS;
  const up = Number(search.get('up') ?? usual);
  const down = Number(search.get('down') ?? usual);
  const opened = search.get('open') ?? '';
  const shown = useMemo(() => focusOn(summary.tables, focus, up, down), [summary.tables, focus, up, down]);
  const drawing = useRef<HTMLDivElement>(null);
  const room = useWidth(drawing);
  const positions = useMemo(() => new Map(summary.layers.map((l, i) => [l.name, i])), [summary.layers]);
  const folded = useMemo(
    () => (focus === undefined ? foldedToFit(shown, { opened, room, positions }) : foldedAround(shown, focus, opened)),
    [shown, focus, opened, room, positions],
  );
  const change = (changes: Readonly<Record<string, string | undefined>>) =>
    setSearch((before) => {
      for (const [name, value] of Object.entries(changes)) {
        if (value) before.set(name, value);
        else before.delete(name);
      }
      return before;
    });
  const choose = (table: string | undefined) =>
    change(
      table ? { focus: table, up: String(up), down: String(down) } : { focus: table, up: undefined, down: undefined },
    );
  const open = opened.split(',').filter((g) => g !== '');
  const wanted = text.toLowerCase();
  const find = () => {
    const hit =
      shown.tables.find((t) => t.name.startsWith(wanted)) ?? summary.tables.find((t) => t.fullName.includes(wanted));
    if (hit) choose(hit.fullName);
  };
  if (summary.tables.length === 0) return <Empty title="Nothing to show yet">Write a first definition.</Empty>;
  return (
    <div className="flex h-full min-h-0">
      <section aria-label="Lineage" className="flex min-w-0 flex-1 flex-col bg-sheet">
        <div className="flex h-strip shrink-0 items-center gap-2 border-b border-line px-3.5">
          <h1 className="sheet-title mr-2 truncate">{focus ?? 'All tables'}</h1>
          {focus ? (
            <>
              <Hops label="upstream" value={up} onChange={(n) => change({ up: String(n) })} />
              <Hops label="downstream" value={down} onChange={(n) => change({ down: String(n) })} />
              <Button onClick={() => choose(undefined)}>All tables</Button>
            </>
          ) : (
            <>
              <Button
                aria-pressed={panel === 'unread'}
                onClick={() => setPanel(panel === 'unread' ? undefined : 'unread')}
              >
                Unread columns {unread ? count(unread.columns.length) : '…'}
              </Button>
              <Button
                aria-pressed={panel === 'coverage'}
                onClick={() => setPanel(panel === 'coverage' ? undefined : 'coverage')}
              >
                Without a description {missing === undefined ? '…' : count(missing)}
              </Button>
            </>
          )}
          {open.map((group) => (
            <Button
              key={group}
              title={`Fold ${group} again`}
              onClick={() => change({ open: open.filter((g) => g !== group).join(',') })}
            >
              Fold {group.slice(group.indexOf('/') + 1).replace('*', '') || group.replace(/\/\*?$/, '')}
            </Button>
          ))}
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
        <div ref={drawing} className="min-h-0 flex-1">
          <Drawing
            folded={folded}
            focus={focus}
            wanted={wanted}
            onChoose={choose}
            onOpen={(group) => change({ open: [...open, group].join(',') })}
          />
        </div>
      </section>
      {focus && tables.has(focus) ? (
        <FocusPanel table={focus} onFocus={choose} />
      ) : (
        <>
          {panel === 'unread' && <UnreadPanel unread={unread} onClose={() => setPanel(undefined)} />}
          {panel === 'coverage' && <CoveragePanel coverage={coverage} onClose={() => setPanel(undefined)} />}
        </>
      )}
    </div>
  );
}

/** All tables fold into groups, and layers into one each where there is no room for their depth. */
function foldedToFit(
  shown: Shown,
  {
    opened,
    room,
    positions,
  }: { readonly opened: string; readonly room: number; readonly positions: ReadonlyMap<string, number> },
): Folded {
  const open = new Set(opened.split(','));
  const widthOf = (folded: Folded) => {
    const placed = layOut(
      folded.nodes.map((n) => ({ name: n.id, layer: positions.get(n.layer) ?? 0 })),
      folded.edges,
      GAP,
    );
    const places = new Map<string, Set<number>>();
    for (const n of folded.nodes) {
      const of = places.get(n.layer) ?? new Set<number>();
      places.set(n.layer, of.add(placed.positions.get(n.id)?.x ?? 0));
    }
    return { width: placed.width, ranks: new Map([...places].map(([layer, of]) => [layer, of.size])) };
  };
  return fold(shown, open, room > 0 ? layersToFold(shown, open, (room - 2 * MARGIN) / LEAST_ZOOM, widthOf) : undefined);
}

/** Around one table groups are folded only where there are many, and its own group is open. */
function foldedAround(shown: Shown, focus: string, opened: string): Folded {
  const open = new Set(opened.split(','));
  const isFew = shown.tables.length <= MOST_APART;
  const folded = fold(shown, open);
  const own = folded.groupOf.get(focus);
  if (isFew) return fold(shown, new Set(folded.groupOf.values()));
  return own === undefined || open.has(own) ? folded : fold(shown, new Set([...open, own]));
}

const WORST: readonly Verdict[] = ['broken', 'advisory', 'not run', 'holds'];

function Drawing({
  folded,
  focus,
  wanted,
  onChoose,
  onOpen,
}: {
  folded: Folded;
  focus: string | undefined;
  /** What names have to contain to be marked. */
  wanted: string;
  onChoose: (table: string) => void;
  onOpen: (group: string) => void;
}) {
  const { slug, summary, states } = useProject();
  const navigate = useNavigate();
  const placed = useMemo(() => {
    const layers = new Map(summary.layers.map((l, i) => [l.name, i]));
    return layOut(
      folded.nodes.map((n) => ({ name: n.id, layer: layers.get(n.layer) ?? 0 })),
      folded.edges,
      GAP,
    );
  }, [folded, summary.layers]);

  const nodes = useMemo((): (TableNode | BandNode)[] => {
    const verdictOf = (table: string) => states.get(table)?.verdict ?? 'not run';
    return [
      ...bandsOf(
        summary.layers.map((l) => l.name),
        folded.nodes.map((n) => ({ fullName: n.id, layer: n.layer })),
        placed,
      ),
      ...folded.nodes.flatMap(({ id, name, tables, isGroup }): TableNode[] => {
        const position = placed.positions.get(id);
        if (!position) return [];
        const verdicts = new Set(tables.map((t) => verdictOf(t.fullName)));
        const data = {
          name,
          full: isGroup ? `${plural(tables.length, 'table')}: open this group` : id,
          verdict: WORST.find((v) => verdicts.has(v)) ?? 'not run',
          focused: id === focus,
          found: wanted !== '' && tables.some((t) => t.fullName.includes(wanted)),
          ...(isGroup ? { count: tables.length } : {}),
        };
        const ariaLabel = isGroup ? `${name}, ${plural(tables.length, 'table')}` : id;
        return [{ id, type: 'table', position, data, draggable: false, connectable: false, ariaLabel }];
      }),
    ];
  }, [placed, folded, summary.layers, states, focus, wanted]);

  const edges = useMemo(
    (): RouteEdgeType[] =>
      folded.edges.map(([from, to]) => {
        const isNear = from === focus || to === focus;
        return {
          id: `${from} ${to}`,
          source: from,
          target: to,
          type: 'route' as const,
          data: { route: placed.routes.get(`${from} ${to}`) ?? [] },
          focusable: false,
          style: { stroke: isNear ? 'var(--plan)' : 'var(--rule)', strokeWidth: isNear ? 1.8 : 1 },
        };
      }),
    [folded.edges, focus, placed],
  );

  const isTable = (node: { type?: string | undefined; data: object }): node is TableNode => node.type === 'table';
  return (
    <DrawingSheet
      placed={placed}
      focus={focus}
      nodes={nodes}
      edges={edges}
      nodeTypes={NODE_TYPES}
      onClick={(node) => {
        if (isTable(node)) (node.data.count === undefined ? onChoose : onOpen)(node.id);
      }}
      onDoubleClick={(node) => {
        if (isTable(node) && node.data.count === undefined) void navigate(address.table(slug, node.id));
      }}
    />
  );
}

function Hops({ label, value, onChange }: { label: string; value: number; onChange: (n: number) => void }) {
  return (
    <label className="flex items-center gap-1 text-small text-soft">
      {label}
      <select
        value={value}
        onChange={(e) => onChange(Number(e.target.value))}
        className="h-control-small rounded-edge border border-rule bg-raised pr-5 pl-1 text-ink"
      >
        {[...new Set([0, 1, 2, 3, value])]
          .filter((n) => n !== ALL_STEPS)
          .map((n) => (
            <option key={n} value={n}>
              {n === 1 ? '1 step' : `${n} steps`}
            </option>
          ))}
        <option value={ALL_STEPS}>all</option>
      </select>
    </label>
  );
}
