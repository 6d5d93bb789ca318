import { NavLink, useParams } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { Empty } from '../../shared/ui/empty';
import { Clean } from './clean';
import { Dates } from './dates';
import { Dimension } from './dimension';
import { Fact } from './fact';
import { PivotRows } from './pivot';
import { Reference } from './reference';
import { Related } from './related';
import { Split } from './split';
import { Stack } from './stack';
import { Summarise } from './summarise';
import { Target } from './target';
import { Vault } from './vault';

const STARTERS = [
  { key: 'clean', title: 'Clean a source table', said: 'trim, cast, rename, decode', Sheet: Clean },
  { key: 'related', title: 'From related tables', said: 'columns of the tables around one', Sheet: Related },
  { key: 'stack', title: 'Stack tables', said: 'one below the other', Sheet: Stack },
  { key: 'split', title: 'Filter and split', said: 'one table in several', Sheet: Split },
  { key: 'summarise', title: 'Summarise', said: 'one row per group', Sheet: Summarise },
  { key: 'pivot', title: 'Pivot', said: 'rows to columns and back', Sheet: PivotRows },
  { key: 'dimension', title: 'Dimension', said: 'members or versions, with keys', Sheet: Dimension },
  { key: 'fact', title: 'Fact', said: 'grain, measures, keys looked up', Sheet: Fact },
  { key: 'dates', title: 'Date dimension', said: 'calendar, weeks, fiscal year', Sheet: Dates },
  { key: 'vault', title: 'Raw vault', said: 'hubs, links, satellites and what reads them', Sheet: Vault },
  { key: 'reference', title: 'Reference table', said: 'from a file of values', Sheet: Reference },
  { key: 'target', title: 'Target against actual', said: 'difference and share reached', Sheet: Target },
] as const;

/** Ways to begin a definition: each writes ordinary SQL, shown before it is kept. */
export default function Starters() {
  const { slug } = useProject();
  const { starter = 'clean' } = useParams();
  const chosen = STARTERS.find((s) => s.key === starter);
  return (
    <div className="flex h-full min-h-0">
      <nav aria-label="Starters" className="w-index shrink-0 overflow-auto border-r border-line bg-paper py-2">
        <h1 className="caps px-3 pb-1">Start a definition</h1>
        {STARTERS.map((s) => (
          <NavLink
            key={s.key}
            to={address.starter(slug, s.key)}
            aria-current={s === chosen ? 'page' : undefined}
            className={`block border-l-3 px-3 py-1.5 ${s === chosen ? 'border-plan bg-sheet' : 'border-transparent hover:bg-sheet'}`}
          >
            <span className="block font-medium">{s.title}</span>
            <span className="block text-small text-soft">{s.said}</span>
          </NavLink>
        ))}
      </nav>
      {chosen ? <chosen.Sheet key={chosen.key} /> : <Empty title="This starter does not exist" />}
    </div>
  );
}
