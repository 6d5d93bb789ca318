import { useDraftReason } from '../../data/use-draft-reason';
import { layersInOrder } from '@ouvrage/core/assist';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { plural } from '../../shared/format';
import { Hatch } from '../../shared/marks';
import { useKeepFiles } from '../../shared/proposal';
import { SectionTitle } from '../../shared/ui/section-title';
import { Empty } from '../../shared/ui/empty';
import { Button } from '../../shared/ui/button';
import { RenameButton } from '../tables/rename-button';
import { UsesButton } from '../tables/uses-button';

/** Layers in their order, and the parameters' defaults: both are files of the project. */
export function ProjectSettings() {
  return (
    <div className="grid grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)] gap-x-9 gap-y-6 max-bench:grid-cols-1">
      <Layers />
      <Parameters />
    </div>
  );
}

function Layers() {
  const { slug, summary, isBehind, textOf } = useProject();
  const { keep, keeping } = useKeepFiles();
  const isBusy = keeping || isBehind;
  const layers = summary.layers;
  const text = textOf('layers.sql') ?? '';
  const reason = useDraftReason();
  const move = (i: number, by: number) => {
    const order = layers.map((l) => l.name);
    [order[i], order[i + by]] = [order[i + by]!, order[i]!];
    void keep([{ path: 'layers.sql', after: layersInOrder(text, summary.layerStatements, order) }]);
  };
  if (layers.length === 0)
    return (
      <Empty title="The project has no layers yet">
        <p>Write create schema landing; and so on into layers.sql.</p>
      </Empty>
    );
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle
        aside={
          <>
            a table reads from its own layer and those above it ·{' '}
            <Link className="text-plan underline underline-offset-2" to={address.file(slug, 'layers.sql')}>
              layers.sql
            </Link>
          </>
        }
      >
        Layers
      </SectionTitle>
      <ol aria-label="Layers" className="border-t border-line">
        {layers.map((l, i) => (
          <li key={l.name} className="flex items-center gap-3 border-b border-line py-1.5">
            <Hatch position={i} />
            <span className="w-24 truncate font-medium" title={l.name}>
              {l.name}
            </span>
            <span className="w-20 text-small text-soft">
              {plural(summary.tables.filter((t) => t.layer === l.name).length, 'table')}
            </span>
            <span className="flex-1 text-soft">{l.comment}</span>
            <RenameButton what={{ kind: 'layer', layer: l.name }} />
            <Button
              tone="quiet"
              aria-label={`Move ${l.name} up`}
              disabled={i === 0 || isBusy}
              {...(reason ? { reason } : {})}
              onClick={() => move(i, -1)}
            >
              Up
            </Button>
            <Button
              tone="quiet"
              aria-label={`Move ${l.name} down`}
              disabled={i === layers.length - 1 || isBusy}
              {...(reason ? { reason } : {})}
              onClick={() => move(i, 1)}
            >
              Down
            </Button>
          </li>
        ))}
      </ol>
    </section>
  );
}

function Parameters() {
  const { slug, summary } = useProject();
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle
        aside={
          <>
            defaults; a run can override them ·{' '}
            <Link className="text-plan underline underline-offset-2" to={address.file(slug, 'parameters.sql')}>
              parameters.sql
            </Link>
          </>
        }
      >
        Parameters
      </SectionTitle>
      <ul className="border-t border-line">
        {summary.parameters.map((p) => (
          <li key={p.name} className="flex gap-3 border-b border-line py-1 font-mono text-small">
            <span className="min-w-0 flex-1 truncate" title={p.name}>
              param.{p.name}
            </span>
            <span>{p.value}</span>
            <UsesButton kind="parameter" name={p.name} />
            <RenameButton what={{ kind: 'parameter', name: p.name }} />
          </li>
        ))}
        {summary.parameters.length === 0 && <li className="py-1 text-soft">The project has no parameters.</li>}
      </ul>
    </section>
  );
}
