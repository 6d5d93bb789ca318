import type { INestApplication } from '@nestjs/common';
import { DocumentBuilder, SwaggerModule, type OpenAPIObject } from '@nestjs/swagger';
import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { routesOf, type Route } from './routes.js';

type Schemas = NonNullable<NonNullable<OpenAPIObject['components']>['schemas']>;
type Schema = Schemas[string];
type Operation = NonNullable<OpenAPIObject['paths'][string]['get']>;
type Responses = Operation['responses'];
type Headers = Readonly<Record<string, { readonly description: string; readonly schema: Schema }>>;

/** What the build reads from the controllers' types, by `Controller_method`, and the problems that the code names, by status. */
interface Answers {
  readonly answers: Readonly<Record<string, { readonly summary?: string; readonly schema?: Schema }>>;
  readonly schemas: Schemas;
  readonly problems: Readonly<Record<string, readonly number[]>>;
}

const ANSWERS = fileURLToPath(new URL('../dist/answers.json', import.meta.url));

const PROBLEM: Schema = {
  type: 'object',
  description: 'An error in the shape of RFC 9457. Some problems have further members that show the place.',
  required: ['type', 'code', 'status', 'title'],
  properties: {
    type: { type: 'string', description: 'about:blank#CODE' },
    code: { type: 'string', description: 'A stable word for programs.' },
    status: { type: 'integer' },
    title: { type: 'string', description: 'What happened, for people.' },
    detail: { type: 'string', description: 'Where, and what to do.' },
    fields: {
      type: 'array',
      items: { type: 'string' },
      description: 'Of a request that is not valid: each field with what is wrong with it.',
    },
    retryAfter: { type: 'number', description: 'Seconds; also in the header Retry-After.' },
    error: { type: 'object', description: 'What the database found, with file, line and column where it is known.' },
  },
};

const TITLES: Readonly<Record<number, string>> = {
  400: 'The request is not valid',
  401: 'Not signed in, or signed in wrongly',
  403: 'Not allowed for this person, or without the CSRF token',
  404: 'It does not exist',
  409: 'Its state does not allow it',
  413: 'The request is too long',
  422: 'What was sent is well-formed and wrong',
  429: 'Too many at once',
  499: 'Stopped by the person who asked',
  500: 'An error of the server',
  502: 'Another system does not answer',
  503: 'The database does not answer at the moment',
  504: 'It took too long',
  507: 'The disk is full',
};

const RETRY: Headers = {
  'Retry-After': { description: 'Seconds until it is worth trying again.', schema: { type: 'integer' } },
};
const ALWAYS: Headers = {
  'Cache-Control': {
    description: 'Answers are private to one person; nothing on the way may cache them.',
    schema: { type: 'string', enum: ['no-store'] },
  },
};

/** Statuses that a route cannot answer with. */
function impossible({ isPublic, method, path, needs }: Route): ReadonlySet<number> {
  const isReading = method === 'GET';
  return new Set([
    ...(isPublic && path !== '/api/sign-in' ? [401] : []),
    ...(isReading && needs === undefined ? [403] : []),
    ...(isReading && !path.includes(':') ? [404] : []),
    ...(isReading ? [413] : []),
  ]);
}

/** Describes the whole API: what is asked, as the validated classes say, and what is answered, as the controllers' types say. */
export function describeApi(app: INestApplication): OpenAPIObject {
  const { answers, schemas, problems } = JSON.parse(readFileSync(ANSWERS, 'utf8')) as Answers;
  const document = SwaggerModule.createDocument(
    app,
    new DocumentBuilder()
      .setOpenAPIVersion('3.1.0')
      .setTitle('Ouvrage')
      .setDescription('The API behind the interface')
      .setVersion('1')
      .addCookieAuth('ouvrage_session')
      .addApiKey(
        {
          type: 'apiKey',
          in: 'header',
          name: 'x-csrf-token',
          description: 'Of the session; needed wherever something changes.',
        },
        'csrf',
      )
      .build(),
  );
  const components = (document.components ??= {});
  components.schemas = { ...nullableAsType(components.schemas ?? {}), ...schemas, Problem: PROBLEM };
  for (const route of routesOf(app)) {
    const operation = document.paths[route.path.replace(/:(\w+)/g, '{$1}')]?.[route.method.toLowerCase() as 'get'];
    if (!operation) continue;
    const answer = answers[`${route.controller}_${route.handler}`];
    if (answer?.summary) operation.summary = answer.summary;
    operation.security = route.isPublic ? [] : [route.method === 'GET' ? { cookie: [] } : { cookie: [], csrf: [] }];
    operation.responses = { ...succeeded(operation.responses, answer?.schema), ...failed(route, problems) };
  }
  return document;
}

/** The answers that a route gives where all went well, with their content. */
function succeeded(responses: Responses, schema: Schema | undefined): Responses {
  const described: Responses = {};
  for (const [status, response] of Object.entries(responses)) {
    if (!response || '$ref' in response) continue;
    const content = response.content ?? (schema && status !== '204' ? { 'application/json': { schema } } : undefined);
    described[status] = {
      ...response,
      description: response.description || (content ? 'The answer' : 'Done; no content'),
      headers: { ...ALWAYS, ...response.headers },
      ...(content ? { content } : {}),
    };
  }
  return described;
}

function failed(route: Route, problems: Answers['problems']): Responses {
  const never = impossible(route);
  const described: Responses = {};
  for (const status of new Set(Object.values(problems).flat())) {
    if (never.has(status)) continue;
    const codes = Object.keys(problems).filter((code) => problems[code]!.includes(status));
    described[status] = {
      description: `${TITLES[status] ?? 'An error'}: ${codes.join(', ')}`,
      headers: { ...ALWAYS, ...(status === 429 || status === 503 ? RETRY : {}) },
      content: {
        'application/problem+json': {
          schema: {
            allOf: [
              { $ref: '#/components/schemas/Problem' },
              { type: 'object', properties: { status: { type: 'integer', enum: [status] } } },
            ],
          },
        },
      },
    };
  }
  return described;
}

/** What the decorators of fields say as `nullable` is a type of its own in JSON Schema. */
function nullableAsType(schemas: Schemas): Schemas {
  return JSON.parse(JSON.stringify(schemas), (_, value: { nullable?: boolean; type?: unknown }) => {
    if (value?.nullable !== true || typeof value.type !== 'string') return value as unknown;
    const { nullable: __, ...rest } = value;
    return { ...rest, type: [value.type, 'null'] };
  }) as Schemas;
}
