import type { Named, Uses } from '@ouvrage/core/assist';
import { useEffect, useState } from 'react';
import { Link } from 'react-router';
import { placeAddress, useProject } from '../../data/project';
import { plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { Loading } from '../../shared/ui/loading';
import { Modal } from '../../shared/ui/modal';
import { VirtualList } from '../../shared/ui/virtual-list';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';

/** Lists all places at which a table or a column is declared, made or read. */
export function UsesButton(of: Named) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button tone="quiet" className="h-5! px-0!" onClick={() => setOpen(true)}>
        Uses
      </Button>
      {open && <UsesDialog of={of} onClose={() => setOpen(false)} />}
    </>
  );
}

function nameOf(of: Named): string {
  switch (of.kind) {
    case 'table':
      return of.table;
    case 'column':
      return `${of.table}.${of.column}`;
    case 'layer':
      return of.layer;
    case 'function':
      return `functions.${of.name}`;
    case 'parameter':
      return `param.${of.name}`;
  }
}

export function UsesDialog({ of, onClose }: { of: Named; onClose: () => void }) {
  const [uses, setUses] = useState<Uses>();
  const tell = useTell();
  useEffect(() => {
    let current = true;
    projectWorker.ask<'uses'>({ kind: 'uses', of }).then(
      (found) => current && setUses(found),
      (error: Error) => current && tell.problem(readerProblem(error)),
    );
    return () => {
      current = false;
    };
    // The same name is another object each time.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [nameOf(of), tell]);
  return (
    <Modal title={`Uses of ${nameOf(of)}`} open onClose={onClose} wide>
      {uses ? <UsesList uses={uses} name={nameOf(of)} onGo={onClose} /> : <Loading what="Looking through all files" />}
    </Modal>
  );
}

function UsesList({ uses: { places, unsure }, name, onGo }: { uses: Uses; name: string; onGo: () => void }) {
  const project = useProject();
  const files = new Set(places.map((p) => p.path)).size;
  return (
    <div className="flex flex-col gap-2">
      <p>
        {plural(places.length, 'place')} in {plural(files, 'file')}, as they are saved.
      </p>
      <VirtualList
        items={places}
        height={26}
        label={`Uses of ${name}`}
        className="max-h-96 border border-line bg-raised"
        keyOf={(p) => `${p.path} ${p.start}`}
      >
        {(p) => (
          <Link
            to={placeAddress(project, p)}
            onClick={onGo}
            className="flex h-6.5 items-center gap-3 border-b border-line px-2 hover:bg-wash"
          >
            <span className="w-70 shrink-0 truncate text-soft" title={p.path}>
              {p.path}:{p.line}
            </span>
            <span className="truncate font-mono text-small">
              {p.around.slice(0, p.column - 1).trimStart()}
              <mark className="bg-wash text-plan">{p.around.slice(p.column - 1, p.column - 1 + p.end - p.start)}</mark>
              {p.around.slice(p.column - 1 + p.end - p.start)}
            </span>
          </Link>
        )}
      </VirtualList>
      {unsure.map(({ path, message }) => (
        <p key={`${path} ${message}`} className="text-advisory-text">
          {message} ({path})
        </p>
      ))}
    </div>
  );
}
