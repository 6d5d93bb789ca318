import { useKeptReason } from '../../data/use-draft-reason';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { PRODUCTION, usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { useBringInMutation, useCompareSourcesMutation } from '../../data/sources';
import type { SourceSystem } from '@ouvrage/api/source';
import { plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';

/** A table of a system, and how far it has come. */
export type SourceRow = SourceSystem['tables'][number];

/** What can be done with the tables of one system, and why something cannot. */
export function useSystem(system: SourceSystem) {
  const { slug } = useProject();
  const person = usePerson();
  const kept = useKeptReason();
  const [bringIn, { isLoading: isBringing }] = useBringInMutation();
  const [compare, { isLoading: isComparing }] = useCompareSourcesMutation();
  const navigate = useNavigate();
  const tell = useTell();
  // A table declared as production has it is production's: workspaces read it from there. Others land in the workspace.
  const targetOf = (t: SourceRow) => (t.sameAsProduction ? PRODUCTION : slug);
  const reasonFor = (tables: readonly SourceRow[]): string | undefined => {
    const isProductions = tables.some((t) => targetOf(t) === PRODUCTION);
    return (
      whyNot(person, 'editor', 'load sources') ??
      (isProductions ? whyNot(person, 'releaser', 'load landing tables, which belong to production') : kept)
    );
  };
  const bring = async (chosen: readonly SourceRow[]): Promise<void> => {
    try {
      let last: number | undefined;
      for (const target of new Set(chosen.map(targetOf))) {
        const tables = chosen.filter((t) => targetOf(t) === target).map((t) => t.table);
        last = (await bringIn({ slug: target, tables }).unwrap()).id;
      }
      if (last !== undefined) await navigate(address.run(slug, last));
    } catch (problem) {
      tell.problem(problem);
    }
  };
  const compareColumns = async (): Promise<void> => {
    try {
      const found = await compare({ slug, server: system.server }).unwrap();
      const names = Object.entries(found).flatMap(([name, drift]) => (drift ? [name] : []));
      tell.say(
        names.length ? `${plural(names.length, 'table')} drifted` : 'Nothing has drifted',
        names.join(', ') || `${system.server} has the columns that are declared.`,
      );
    } catch (problem) {
      tell.problem(problem);
    }
  };
  return { isBringing, isComparing, reasonFor, bring, compareColumns };
}
