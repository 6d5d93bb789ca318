import { Ajv2020 } from 'ajv/dist/2020.js';
import formats from 'ajv-formats';
import type { Route } from './routes.js';

type Schema = Readonly<Record<string, unknown>>;

/** The API's own description, as far as tests read it. */
export interface Api {
  readonly paths: Readonly<Record<string, Readonly<Record<string, Operation>>>>;
  readonly components: {
    readonly schemas: Readonly<Record<string, Schema & { readonly properties?: Readonly<Record<string, unknown>> }>>;
  };
}
export interface Operation {
  readonly summary?: string;
  readonly parameters?: readonly { readonly name: string; readonly in: string }[];
  readonly requestBody?: {
    readonly content: Readonly<Record<string, { readonly schema: { readonly $ref?: string } }>>;
  };
  readonly responses: Readonly<
    Record<
      string,
      { readonly headers?: Schema; readonly content?: Readonly<Record<string, { readonly schema: Schema }>> }
    >
  >;
}

export const operationOf = (api: Api, { method, path }: Route): Operation | undefined =>
  api.paths[path.replace(/:(\w+)/g, '{$1}')]?.[method.toLowerCase()];

interface Answer {
  readonly status: number;
  readonly type: string;
  readonly text: string;
  readonly headers: Readonly<Record<string, string>>;
}

/** A schema that allows nothing that it does not describe: what is answered and not described is found, too. */
const closed = (schema: unknown): unknown =>
  JSON.parse(JSON.stringify(schema), (_, value: Schema | null) =>
    value?.['type'] === 'object' && value['properties'] && value['additionalProperties'] === undefined
      ? { ...value, additionalProperties: false }
      : value,
  ) as unknown;

/** Holds answers against the description. @returns a function that says `as described`, or what is not */
export function descriptionOf(api: Api): (route: Route, answer: Answer) => string {
  const ajv = new Ajv2020({ strict: false, allErrors: false, validateFormats: true });
  formats.default(ajv);
  const { Problem, ...schemas } = api.components.schemas;
  ajv.addSchema({ $id: 'api', components: { schemas: { ...(closed(schemas) as object), Problem } } });
  const compiled = new Map<string, ReturnType<Ajv2020['compile']>>();
  return (route, answer) => {
    if (!operationOf(api, route))
      return route.path.startsWith('/git/') ? 'as described' : `${route.path} is not described`;
    const response = operationOf(api, route)?.responses[answer.status];
    if (!response) return `${answer.status} is not described: ${answer.text.slice(0, 200)}`;
    const missing = Object.keys(response.headers ?? {}).find(
      (name) => answer.headers[name.toLowerCase()] === undefined,
    );
    if (missing !== undefined) return `there is no header ${missing}`;
    if (!response.content) return answer.text === '' ? 'as described' : `there is text: ${answer.text.slice(0, 200)}`;
    const type = Object.keys(response.content).find((t) => t.split(';')[0] === answer.type);
    if (type === undefined) return `${answer.type} is not described`;
    if (!type.includes('json') || type.includes('ndjson')) return 'as described';
    const key = `${route.method} ${route.path} ${answer.status}`;
    const schema = response.content[type]!.schema;
    const isProblem = type.includes('problem');
    const text = JSON.stringify(isProblem ? schema : closed(schema)).replaceAll('"#/components', '"api#/components');
    const validate = compiled.get(key) ?? ajv.compile(JSON.parse(text) as object);
    compiled.set(key, validate);
    return validate(JSON.parse(answer.text)) ? 'as described' : ajv.errorsText(validate.errors).slice(0, 400);
  };
}
