import { RequestMethod, type INestApplication } from '@nestjs/common';
import { ModulesContainer, Reflector } from '@nestjs/core';
import { NEEDS, PUBLIC, rightFor, TOKEN_RIGHT, type TokenRight } from './people/access.js';
import type { PersonRole } from './people/people.entities.js';

/** A route of the application, as Nest knows it. */
export interface Route {
  readonly method: string;
  /** With the names of its parameters, `/api/workspaces/:slug/files`. */
  readonly path: string;
  readonly controller: string;
  readonly handler: string;
  readonly isPublic: boolean;
  /** The least role that it says it needs; undefined where it says nothing, which is a viewer. */
  readonly needs: PersonRole | undefined;
  /** The right with which a token opens it; undefined where none does. */
  readonly right: TokenRight | undefined;
}

const PATH = 'path';
const METHOD = 'method';

/** Every route of all controllers, read from what their decorators leave: none can be forgotten. */
export function routesOf(app: INestApplication): Route[] {
  const reflector = new Reflector();
  const routes: Route[] = [];
  for (const module of app.get(ModulesContainer, { strict: false }).values()) {
    for (const { metatype } of module.controllers.values()) {
      const type = metatype as { prototype: Record<string, unknown>; name: string };
      const base = Reflect.getMetadata(PATH, type) as string;
      for (const handler of Object.getOwnPropertyNames(type.prototype)) {
        const method = type.prototype[handler];
        if (handler === 'constructor' || typeof method !== 'function') continue;
        const path = Reflect.getMetadata(PATH, method) as string | undefined;
        if (path === undefined) continue;
        const of = [method as () => unknown, type as unknown as () => unknown];
        const isSse = Reflect.getMetadata('__sse__', method) === true;
        const verb = Reflect.getMetadata(METHOD, method) as RequestMethod | undefined;
        const name = isSse || verb === undefined ? 'GET' : RequestMethod[verb];
        routes.push({
          method: name,
          path: `/${[base, path].flatMap((p) => p.split('/').filter(Boolean)).join('/')}`,
          controller: type.name,
          handler,
          isPublic: reflector.getAllAndOverride<boolean>(PUBLIC, of) ?? false,
          needs: reflector.getAllAndOverride<PersonRole | undefined>(NEEDS, of),
          right: rightFor(name, reflector.getAllAndOverride<TokenRight | 'never' | undefined>(TOKEN_RIGHT, of)),
        });
      }
    }
  }
  return routes.sort((a, b) => (a.path + a.method < b.path + b.method ? -1 : 1));
}
