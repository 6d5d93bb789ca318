import { useVirtualizer } from '@tanstack/react-virtual';
import { Plus } from 'lucide-react';
import { useMemo, useRef, useState, type KeyboardEvent } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useDraftReason } from '../../data/use-draft-reason';
import { Hatch, VerdictMark } from '../../shared/marks';
import { Foldable } from '../../shared/ui/foldable';
import { NewDefinition } from './new-definition';

type Line =
  | { readonly kind: 'head'; readonly key: string; readonly label: string; readonly position?: number }
  | { readonly kind: 'table'; readonly key: string; readonly name: string; readonly full: string }
  | { readonly kind: 'file'; readonly key: string; readonly path: string };

/** Tables by layer, then the project's other files. */
export function TableIndex({ current }: { current: string | undefined }) {
  const project = useProject();
  const mayWrite = useDraftReason() === undefined;
  const navigate = useNavigate();
  const [filter, setFilter] = useState('');
  const [making, setMaking] = useState(false);
  const scroller = useRef<HTMLDivElement>(null);
  const lines = useMemo(() => linesOf(project, filter.trim().toLowerCase()), [project, filter]);
  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: (i) => (lines[i]!.kind === 'head' ? 27 : 22.5),
    overscan: 20,
  });

  const onKey = (e: KeyboardEvent) => {
    if (e.key !== 'ArrowDown' && e.key !== 'ArrowUp') return;
    e.preventDefault();
    const at = lines.findIndex((l) => isCurrent(l, current));
    const step = e.key === 'ArrowDown' ? 1 : -1;
    for (let i = at + step; i >= 0 && i < lines.length; i += step) {
      const line = lines[i]!;
      if (line.kind === 'head') continue;
      virtual.scrollToIndex(i);
      void navigate(
        line.kind === 'table' ? address.table(project.slug, line.full) : address.file(project.slug, line.path),
      );
      return;
    }
  };

  return (
    <Foldable name="Index" side="left" width="w-index">
      <div className="flex items-center gap-1.5 border-b border-line p-2">
        <input
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          placeholder="Filter"
          aria-label="Filter tables"
          className="h-control-small min-w-0 flex-1 rounded-edge border border-rule bg-raised px-2"
        />
        {mayWrite && (
          <button
            id="new-definition"
            type="button"
            aria-label="New definition"
            title="New definition"
            onClick={() => setMaking(true)}
            className="flex h-control-small w-control-small items-center justify-center rounded-edge border border-rule bg-raised hover:bg-wash"
          >
            <Plus size={14} aria-hidden />
          </button>
        )}
      </div>
      <div
        ref={scroller}
        role="listbox"
        aria-label="Tables and files"
        tabIndex={0}
        onKeyDown={onKey}
        className="min-h-0 flex-1 overflow-auto focus-visible:-outline-offset-2"
      >
        {lines.length === 0 && <p className="p-3 text-soft">No match.</p>}
        <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
          {virtual.getVirtualItems().map((item) => (
            <div
              key={lines[item.index]!.key}
              className="absolute top-0 left-0 w-full"
              style={{ transform: `translateY(${item.start}px)`, height: item.size }}
            >
              <IndexLine line={lines[item.index]!} current={isCurrent(lines[item.index]!, current)} />
            </div>
          ))}
        </div>
      </div>
      <NewDefinition open={making} onClose={() => setMaking(false)} />
    </Foldable>
  );
}

const isCurrent = (line: Line, current: string | undefined) =>
  line.kind === 'table' ? line.full === current : line.kind === 'file' && line.path === current;

function IndexLine({ line, current }: { line: Line; current: boolean }) {
  const { slug, states, drafts, tables, summary } = useProject();
  if (line.kind === 'head') {
    return (
      <div role="presentation" className="flex h-full items-end gap-2 px-3 pb-1">
        {line.position !== undefined && <Hatch position={line.position} />}
        <span className="caps">{line.label}</span>
      </div>
    );
  }
  const look = `flex h-full items-center gap-2 border-l-3 pr-3 pl-7.25 ${current ? 'border-plan bg-sheet font-semibold' : 'border-transparent hover:bg-sheet/70'}`;
  if (line.kind === 'file') {
    return (
      <Link
        role="option"
        aria-selected={current}
        tabIndex={-1}
        to={address.file(slug, line.path)}
        className={look}
        title={line.path}
      >
        <span className="flex-1 truncate">{line.path.split('/').slice(-1)[0]}</span>
        {drafts.has(line.path) && <span className="text-small text-advisory-text">draft</span>}
      </Link>
    );
  }
  const table = tables.get(line.full)!;
  const wrong = summary.diagnostics.some(
    (d) => d.severity === 'error' && d.path === table.path && table.kind === 'definition',
  );
  return (
    <Link
      role="option"
      aria-selected={current}
      tabIndex={-1}
      to={address.table(slug, line.full)}
      className={look}
      title={table.comment ?? line.full}
    >
      <span className="flex-1 truncate">{line.name}</span>
      {wrong ? (
        <span className="text-small text-broken">error</span>
      ) : (
        drafts.has(table.path) &&
        table.kind !== 'source' && <span className="text-small text-advisory-text">draft</span>
      )}
      <VerdictMark verdict={states.get(line.full)?.verdict ?? 'not run'} size={11} />
    </Link>
  );
}

function linesOf({ summary, paths, tables }: ReturnType<typeof useProject>, filter: string): Line[] {
  const lines: Line[] = [];
  const matching = (text: string) => filter === '' || text.toLowerCase().includes(filter);
  summary.layers.forEach((layer, position) => {
    const own = summary.tables
      .filter((t) => t.layer === layer.name && matching(t.fullName))
      .sort((a, b) => a.name.localeCompare(b.name));
    if (own.length === 0 && filter !== '') return;
    lines.push({ kind: 'head', key: `layer ${layer.name}`, label: layer.name, position });
    for (const t of own) lines.push({ kind: 'table', key: t.fullName, name: t.name, full: t.fullName });
  });
  const made = new Set([...tables.values()].filter((t) => t.kind !== 'source').map((t) => t.path));
  const groups = new Map<string, string[]>();
  for (const path of paths) {
    if (made.has(path) || !matching(path)) continue;
    const folder = path.includes('/') ? path.split('/')[0]! : 'project';
    groups.set(folder, [...(groups.get(folder) ?? []), path]);
  }
  for (const [folder, files] of groups) {
    lines.push({ kind: 'head', key: `folder ${folder}`, label: folder === 'adhoc' ? 'ad hoc queries' : folder });
    for (const path of files) lines.push({ kind: 'file', key: path, path });
  }
  return lines;
}
