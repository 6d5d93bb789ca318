import { GROUPS, type EntryGroup } from './entry';
import { search } from './search-entries';
import { useEntries, useFound } from './use-entries';
import { Command } from 'cmdk';
import { useMemo, useState } from 'react';
import { Hatch, VerdictMark } from '../shared/marks';

/** Ctrl K: any table, column, check, run or command. */
export function Finder({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [text, setText] = useState('');
  const [group, setGroup] = useState<EntryGroup>();
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
      contentClassName="fixed top-1/10 left-1/2 z-50 w-dialog-wide -translate-x-1/2 border border-rule bg-sheet text-ink shadow-lg"
    >
      <Command.Input
        value={text}
        onValueChange={setText}
        placeholder="A name, or words of a description, a note or SQL"
        className="h-11 w-full border-b border-line bg-transparent px-4 text-lead outline-none"
      />
      <div role="radiogroup" aria-label="Where to look" className="flex border-b border-line px-2.5 py-1 text-small">
        {[undefined, ...GROUPS].map((g) => (
          <button
            key={g ?? 'all'}
            type="button"
            role="radio"
            aria-checked={g === group}
            onClick={() => setGroup(g)}
            className={`rounded-edge px-1.25 py-0.5 ${g === group ? 'bg-wash font-medium text-plan' : 'text-soft hover:text-ink'}`}
          >
            {g ?? 'Everywhere'}
          </button>
        ))}
      </div>
      {open && <Found text={text.trim().toLowerCase()} group={group} onChosen={close} />}
    </Command.Dialog>
  );
}

function Found({ text, group, onChosen }: { text: string; group: EntryGroup | undefined; onChosen: () => void }) {
  const entries = useEntries();
  const written = useFound(text);
  const found = useMemo(() => search(entries, text, { group, found: written }), [entries, text, group, written]);
  const groups = [...new Set(found.map((e) => e.group))];
  return (
    <Command.List className="max-h-half overflow-auto p-1">
      <Command.Empty className="p-4 text-soft">No match. Try part of the name.</Command.Empty>
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
                <span className={`truncate ${e.around === undefined ? 'flex-1' : 'w-55 shrink-0'}`}>{e.label}</span>
                {e.around !== undefined && <span className="flex-1 truncate text-small text-soft">{e.around}</span>}
                {e.aside && <span className="truncate text-small text-soft">{e.aside}</span>}
              </Command.Item>
            ))}
        </Command.Group>
      ))}
    </Command.List>
  );
}
