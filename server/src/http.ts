import { ValidationPipe, type INestApplication } from '@nestjs/common';
import type { NestExpressApplication } from '@nestjs/platform-express';
import { SwaggerModule } from '@nestjs/swagger';
import compression from 'compression';
import cookieParser from 'cookie-parser';
import express, { type NextFunction, type Request, type Response } from 'express';
import helmet from 'helmet';
import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { pinoHttp } from 'pino-http';
import { describeApi } from './api-description.js';
import { sessionToken } from './people/session-cookie.js';
import { choosePassword } from './people/session.guard.js';
import { SessionService } from './people/session.service.js';
import { Config } from './shared/config.js';
import { logger, Problem, ProblemFilter, sendProblem } from './shared/problem.js';
import { clockOffset } from './shared/time.js';

const WEB = fileURLToPath(new URL('../../web/dist', import.meta.url));

/** Everything around the routes: headers, cookies, validation, errors, documentation, the interface. */
export function configure(app: INestApplication): void {
  const nonceOf = new WeakMap<Response, string>();
  app.use((_: Request, response: Response, next: NextFunction) => {
    nonceOf.set(response, randomBytes(16).toString('base64'));
    next();
  });
  const nonce = (_: unknown, response: unknown) => `'nonce-${nonceOf.get(response as Response)}'`;
  const policy = helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'none'"],
        scriptSrc: ["'self'", "'wasm-unsafe-eval'"],
        styleSrc: ["'self'", nonce],
        // The browser's own editing keeps the look of replaced text in style attributes.
        styleSrcAttr: ["'unsafe-inline'"],
        imgSrc: ["'self'", 'data:'],
        fontSrc: ["'self'"],
        connectSrc: ["'self'"],
        workerSrc: ["'self'"],
        formAction: ["'self'"],
        frameAncestors: ["'none'"],
        baseUri: ["'none'"],
      },
    },
    strictTransportSecurity: false,
    referrerPolicy: { policy: 'same-origin' },
  });
  // The documentation's own page needs its inline styles.
  const docsPolicy = helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: { defaultSrc: ["'self'"], styleSrc: ["'self'", "'unsafe-inline'"], imgSrc: ["'self'", 'data:'] },
    },
    strictTransportSecurity: false,
  });
  app.use((request: Request, response: Response, next: NextFunction) =>
    (request.path.startsWith('/api/docs') ? docsPolicy : policy)(request, response, next),
  );
  app.use(pinoHttp({ logger, useLevel: 'debug', autoLogging: true }));
  app.use(compression({ filter: isCompressed }));
  const { proxy } = app.get(Config);
  if (proxy !== undefined) (app as NestExpressApplication).set('trust proxy', proxy);
  app.use(cookieParser());
  // What the API answers is one person's, and is kept by nobody on the way.
  app.use('/api', (_: Request, response: Response, next: NextFunction) => {
    response.setHeader('Cache-Control', 'no-store');
    // Milliseconds between the demo's clock and the real one: ages are shown by the clock that stamps.
    if (clockOffset() !== 0) response.setHeader('Ouvrage-Clock', String(clockOffset()));
    next();
  });
  app.use('/api', express.json({ limit: '4mb' }));
  app.use('/api', refuseNoText);
  app.use('/api/docs', requireSession(app));
  app.use('/api/docs-json', requireSession(app));
  app.use('/api/docs-yaml', requireSession(app));
  app.useGlobalPipes(new ValidationPipe({ whitelist: true, forbidNonWhitelisted: true, transform: true }));
  app.useGlobalFilters(new ProblemFilter());
  SwaggerModule.setup('api/docs', app, describeApi(app));
  serveInterface(app, nonceOf);
}

/** Answers that are compressed: not streams that people follow or save, and not what tells a session's token beside what was asked. */
function isCompressed(request: Request, response: Response): boolean {
  const isStream =
    /event-stream|ndjson/.test(String(response.getHeader('Content-Type'))) || response.hasHeader('Content-Disposition');
  return !isStream && !/^\/(api\/(session|sign-in)|git\/)/.test(request.path) && compression.filter(request, response);
}

/** No text can hold NUL in PostgreSQL, or half of a surrogate pair in UTF-8: a request with one is refused with the field that has it. */
function refuseNoText(request: Request, response: Response, next: NextFunction): void {
  const [field, what] = /%00|\0/.test(request.originalUrl) ? ['the address', NUL] : noTextIn(request.body, 'body');
  if (field === undefined) return next();
  sendProblem(
    response,
    new Problem(400, 'bad-input', 'Invalid request', `${field} has ${what}, which text cannot contain`, {
      fields: [field],
    }),
  );
}

const NUL = 'a NUL character';

const noText = (text: string): string | undefined =>
  text.includes('\0') ? NUL : /\p{Surrogate}/u.test(text) ? 'half of a character' : undefined;

/** Where in a value is what no text can hold, and what. Values of JSON are no deeper than the parser of JSON allows: walked without recursion. */
function noTextIn(value: unknown, name: string): [field?: string, what?: string] {
  const open: [unknown, string][] = [[value, name]];
  for (let next = open.pop(); next; next = open.pop()) {
    const [found, path] = next;
    const what = typeof found === 'string' ? noText(found) : undefined;
    if (what !== undefined) return [path, what];
    if (typeof found !== 'object' || found === null) continue;
    for (const [key, inner] of Object.entries(found)) {
      const ofKey = noText(key);
      if (ofKey !== undefined) return [path, ofKey];
      open.push([inner, `${path}.${key}`.slice(0, 200)]);
    }
  }
  return [];
}

/** Lets only people who are signed in pass. */
function requireSession(app: INestApplication) {
  return (request: Request, response: Response, next: NextFunction): void => {
    const token = sessionToken(request);
    const session = token === undefined ? Promise.resolve(undefined) : app.get(SessionService).of(token);
    session.then(
      (found) =>
        found && !found.person.mustChange
          ? next()
          : sendProblem(response, found ? choosePassword() : new Problem(401, 'sign-in', 'Sign in first')),
      next,
    );
  };
}

function serveInterface(app: INestApplication, nonceOf: WeakMap<Response, string>): void {
  if (!existsSync(path.join(WEB, 'index.html'))) return;
  const page = readFileSync(path.join(WEB, 'index.html'), 'utf8');
  app.use('/assets', express.static(path.join(WEB, 'assets'), { immutable: true, maxAge: '1y', fallthrough: false }));
  app.use(express.static(WEB, { index: false, maxAge: '1h' }));
  app.use((request: Request, response: Response, next: NextFunction) => {
    if (request.method !== 'GET' || /^\/(api|git)(\/|$)/.test(request.path)) return next();
    response
      .type('html')
      .setHeader('Cache-Control', 'no-store')
      .send(page.replaceAll('__NONCE__', nonceOf.get(response)!));
  });
}
