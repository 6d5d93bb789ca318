import { rowPrints } from '@ouvrage/core/graph';
import { targetPlace } from '@ouvrage/core/load';
import { PRODUCTION } from '../project/branches.js';
import type { Line, ProjectService } from '../project/project.service.js';
import type { Standing } from '../warehouse/loaded.js';
import type { WarehouseService } from '../warehouse/warehouse.service.js';

/**
 * Where checks find the tables of a workspace or of production: as everything else does, and in production also those
 * of which the workspace has changed nothing but what is checked.
 * @param known where everything else finds them, if that is known
 */
export async function checkStandings(
  { projects, warehouse }: { readonly projects: ProjectService; readonly warehouse: WarehouseService },
  { project, environment }: Pick<Line, 'project' | 'environment'>,
  known?: ReadonlyMap<string, Standing>,
): Promise<Map<string, Standing>> {
  const released = projects.environmentOf(undefined);
  const standings = new Map(known ?? (await warehouse.standings(project, environment, released)));
  if (environment.kind === 'production') return standings;
  const open = [...standings].filter(
    ([table, s]) => s.where === 'nowhere' && project.tables.get(table)?.kind === 'definition',
  );
  if (open.length === 0) return standings;
  const { project: production } = await projects.line(PRODUCTION);
  const [loaded, here, there] = [await warehouse.loaded(released), rowPrints(project), rowPrints(production)];
  for (const [name] of open) {
    const found = loaded.get(name);
    if (found && here.get(name) === there.get(name))
      standings.set(name, {
        where: 'production',
        place: targetPlace(released, project.tables.get(name)!),
        loaded: found,
      });
  }
  return standings;
}
