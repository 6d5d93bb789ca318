import { ValidationPipe, type INestApplication } from '@nestjs/common';
import { DocumentBuilder, SwaggerModule } from '@nestjs/swagger';
import cookieParser from 'cookie-parser';
import express, { type NextFunction, type Request, type Response } from 'express';
import helmet from 'helmet';
import { randomBytes } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { pinoHttp } from 'pino-http';
import { logger, ProblemFilter } from './shared/problem.js';

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
    contentSecurityPolicy: { useDefaults: false, directives: { defaultSrc: ["'self'"], styleSrc: ["'self'", "'unsafe-inline'"], imgSrc: ["'self'", 'data:'] } },
    strictTransportSecurity: false,
  });
  app.use((request: Request, response: Response, next: NextFunction) => (request.path.startsWith('/api/docs') ? docsPolicy : policy)(request, response, next));
  app.use(pinoHttp({ logger, useLevel: 'debug', autoLogging: true }));
  app.use(cookieParser());
  app.use('/api', express.json({ limit: '4mb' }));
  app.useGlobalPipes(new ValidationPipe({ whitelist: true, forbidNonWhitelisted: true, transform: true }));
  app.useGlobalFilters(new ProblemFilter());
  const document = SwaggerModule.createDocument(
    app,
    new DocumentBuilder().setTitle('Ouvrage').setDescription('The API behind the interface').setVersion('1').addCookieAuth('ouvrage_session').build(),
  );
  SwaggerModule.setup('api/docs', app, document);
  serveInterface(app, nonceOf);
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
