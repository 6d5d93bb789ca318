import { Injectable, type CallHandler, type ExecutionContext, type NestInterceptor } from '@nestjs/common';
import { sensitiveColumns } from '@ouvrage/core/lineage';
import { mergeMap, type Observable } from 'rxjs';
import { mayAct, type SignedInRequest } from '../people/access.js';
import { PRODUCTION } from '../project/branches.js';
import { ProjectService } from '../project/project.service.js';
import { withoutValue } from '../warehouse/sql-error.js';

/** Names of columns as a project has them. */
interface ColumnNames {
  readonly sensitive: ReadonlySet<string>;
  readonly known: ReadonlySet<string>;
}

/**
 * Answers to viewers without values that were kept earlier for everybody: of rows at fault and of rows that stopped a
 * load only columns are left that the project knows and that are nowhere sensitive, and errors come without the value
 * that they are about. Every route is behind it, those to come as well; rows that are looked at now are read under
 * the viewers' own role.
 */
@Injectable()
export class ViewerAnswers implements NestInterceptor {
  constructor(private readonly projects: ProjectService) {}

  intercept(context: ExecutionContext, next: CallHandler): Observable<unknown> {
    const { person, params } = context.switchToHttp().getRequest<SignedInRequest>();
    if (!person || mayAct(person.role, 'editor')) return next.handle();
    return next.handle().pipe(
      mergeMap(async (answer: unknown) => {
        if (typeof answer !== 'object' || answer === null) return answer;
        const { environment } = answer as { environment?: unknown };
        const slug = typeof params['slug'] === 'string' ? params['slug'] : environment;
        const names = await this.names(typeof slug === 'string' ? slug : PRODUCTION);
        return names.sensitive.size ? withoutValues(answer, names) : answer;
      }),
    );
  }

  /** Those of production, and of a workspace where there is one of that name. */
  private async names(slug: string): Promise<ColumnNames> {
    const { project: released } = await this.projects.line(PRODUCTION);
    const own = slug === PRODUCTION ? undefined : await this.projects.line(slug).catch(() => undefined);
    const projects = own ? [released, own.project] : [released];
    return {
      sensitive: new Set(projects.flatMap((p) => [...sensitiveColumns(p).values()].flatMap((c) => [...c.keys()]))),
      known: new Set(projects.flatMap((p) => [...p.columns.values()].flatMap((c) => c?.map((d) => d.name) ?? []))),
    };
  }
}

/** A copy of an answer; what is neither a list nor a plain object is handed on as it is. */
export function withoutValues(answer: unknown, names: ColumnNames): unknown {
  if (Array.isArray(answer)) return answer.map((a) => withoutValues(a, names));
  if (typeof answer !== 'object' || answer === null || !isPlain(answer)) return answer;
  const of = answer as Record<string, unknown>;
  if (isFaultRows(of)) return visible(of, names);
  return Object.fromEntries(
    Object.entries(of).map(([key, value]) => [
      key,
      key === 'error' || key === 'reason' ? withoutQuoted(withoutValues(value, names)) : withoutValues(value, names),
    ]),
  );
}

const isPlain = (of: object) => Object.getPrototypeOf(of) === Object.prototype || Object.getPrototypeOf(of) === null;

interface KeptRows {
  readonly columns: readonly string[];
  readonly rows: readonly (readonly unknown[])[];
}

const isFaultRows = (of: Record<string, unknown>): of is Record<string, unknown> & KeptRows =>
  Array.isArray(of['columns']) &&
  Array.isArray(of['rows']) &&
  of['columns'].every((c) => typeof c === 'string') &&
  of['rows'].every((r) => Array.isArray(r));

function visible({ columns, rows, ...rest }: KeptRows, { sensitive, known }: ColumnNames): object {
  const shown = columns.flatMap((c, i) => (known.has(c) && !sensitive.has(c) ? [i] : []));
  return { ...rest, columns: shown.map((i) => columns[i]), rows: rows.map((r) => shown.map((i) => r[i])) };
}

/** The database ends a message with the value that it is about, and tells keys in its detail. */
function withoutQuoted(error: unknown): unknown {
  if (typeof error === 'string') return withoutValue(error);
  if (typeof error !== 'object' || error === null || !('message' in error)) return error;
  const { detail: _, ...rest } = error as { detail?: unknown; message: unknown };
  return { ...rest, message: withoutValue(String(rest.message)) };
}
