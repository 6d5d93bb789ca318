import { Command } from 'cmdk';
import { useMemo, useState } from 'react';
import { useNavigate } from 'react-router';
import { Hatch, VerdictMark } from '../shared/marks';
import { address, PLACES } from '../data/addresses';
import { useRunsQuery } from '../data/runs';
import { useProject } from '../data/project';
import { themeChosen, useAppDispatch, useAppSelector } from '../data/store';

const MOST = 40;

/** Ctrl K: any table, column, check, run or command. */
export function Finder({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [text, setText] = useState('');
  const close = () => {
    setText('');
    onClose();
  };
  return (
    <Command.Dialog
      open={open}
      onOpenChange={(next) => !next && close()}
      label="Find anything"
      shouldFilter={false}
      loop
      overlayClassName="fixed inset-0 z-40 bg-black/40"
      contentClassName="fixed top-[10vh] left-1/2 z-50 w-[min(620px,94vw)] -translate-x-1/2 border border-rule bg-sheet text-ink shadow-lg"
    >
      <Command.Input
        value={text}
        onValueChange={setText}
        placeholder="A table, column, check, run or command"
        className="h-11 w-full border-b border-line bg-transparent px-4 text-[14px] outline-none"
      />
      {open && <Found text={text.trim().toLowerCase()} onChosen={close} />}
    </Command.Dialog>
  );
}

interface Entry {
  readonly key: string;
  readonly group: string;
  readonly label: string;
  readonly aside?: string;
  readonly layer?: number;
  readonly verdict?: Parameters<typeof VerdictMark>[0]['verdict'];
  readonly act: () => void;
}

function Found({ text, onChosen }: { text: string; onChosen: () => void }) {
  const entries = useEntries();
  const found = useMemo(() => search(entries, text), [entries, text]);
  const groups = [...new Set(found.map((e) => e.group))];
  return (
    <Command.List className="max-h-[56vh] overflow-auto p-1">
      <Command.Empty className="p-4 text-soft">Nothing is called that. Try a part of the name.</Command.Empty>
      {groups.map((group) => (
        <Command.Group
          key={group}
          heading={group}
          className="[&_[cmdk-group-heading]]:caps [&_[cmdk-group-heading]]:px-3 [&_[cmdk-group-heading]]:py-1"
        >
          {found
            .filter((e) => e.group === group)
            .map((e) => (
              <Command.Item
                key={e.key}
                value={e.key}
                onSelect={() => {
                  onChosen();
                  e.act();
                }}
                className="flex cursor-pointer items-center gap-2 px-3 py-1.5 data-[selected=true]:bg-wash"
              >
                {e.layer !== undefined && <Hatch position={e.layer} />}
                {e.verdict && <VerdictMark verdict={e.verdict} />}
                <span className="flex-1 truncate">{e.label}</span>
                {e.aside && <span className="truncate text-small text-soft">{e.aside}</span>}
              </Command.Item>
            ))}
        </Command.Group>
      ))}
    </Command.List>
  );
}

function useEntries(): Entry[] {
  const { slug, summary, checks, paths } = useProject();
  const { data: runs = [] } = useRunsQuery(slug);
  const navigate = useNavigate();
  const theme = useAppSelector((s) => s.interface.theme);
  const dispatch = useAppDispatch();
  return useMemo(() => {
    const layer = new Map(summary.layers.map((l, i) => [l.name, i]));
    const go = (to: string) => () => void navigate(to);
    return [
      ...summary.tables.map((t): Entry => ({
        key: `t ${t.fullName}`,
        group: 'Tables',
        label: t.fullName,
        aside: t.comment,
        layer: layer.get(t.layer) ?? 0,
        act: go(address.table(slug, t.fullName)),
      })),
      ...PLACES.map(([place, label]): Entry => ({
        key: `p ${place}`,
        group: 'Commands',
        label: `Go to ${label}`,
        act: go(address.place(slug, place)),
      })),
      {
        key: 'p starters',
        group: 'Commands',
        label: 'Begin a definition with a starter',
        act: go(address.starter(slug)),
      },
      { key: 'p settings', group: 'Commands', label: 'Go to Settings', act: go(address.place(slug, 'settings')) },
      {
        key: 'c theme',
        group: 'Commands',
        label: theme === 'paper' ? 'Use the blueprint (dark) theme' : 'Use the paper (light) theme',
        act: () => dispatch(themeChosen(theme === 'paper' ? 'blueprint' : 'paper')),
      },
      ...checks.map((c): Entry => ({
        key: `k ${c.id}`,
        group: 'Checks',
        label: c.title,
        aside: c.table,
        verdict: c.verdict,
        act: go(address.check(slug, c.id)),
      })),
      ...summary.tables.flatMap((t) =>
        (t.columns ?? []).map((c): Entry => ({
          key: `f ${t.fullName}.${c.name}`,
          group: 'Columns',
          label: `${t.fullName}.${c.name}`,
          aside: c.type,
          act: go(address.table(slug, t.fullName)),
        })),
      ),
      ...runs.slice(0, 50).map((r): Entry => ({
        key: `r ${r.id}`,
        group: 'Runs',
        label: `Run ${r.id}, ${r.kind}`,
        aside: r.state,
        act: go(address.run(slug, r.id)),
      })),
      ...paths.map((path): Entry => ({
        key: `d ${path}`,
        group: 'Files',
        label: path,
        act: go(address.file(slug, path)),
      })),
    ];
  }, [slug, summary, checks, paths, runs, navigate, theme, dispatch]);
}

/** Every word has to occur; names that begin with the text come first. */
function search(entries: readonly Entry[], text: string): Entry[] {
  if (text === '') return entries.filter((e) => e.group === 'Tables' || e.group === 'Commands').slice(0, MOST);
  const words = text.split(/\s+/);
  const ranked = entries.flatMap((e) => {
    const label = e.label.toLowerCase();
    if (!words.every((w) => label.includes(w))) return [];
    const name = label.split('.').at(-1)!;
    return [{ e, rank: (name.startsWith(words[0]!) ? 0 : 1) + label.length / 1000 }];
  });
  return ranked
    .sort((a, b) => a.rank - b.rank)
    .slice(0, MOST)
    .map((r) => r.e)
    .sort((a, b) => GROUPS.indexOf(a.group) - GROUPS.indexOf(b.group));
}

const GROUPS = ['Tables', 'Columns', 'Checks', 'Runs', 'Files', 'Commands'];
