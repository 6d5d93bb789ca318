import { All, Controller, Inject, Req, Res } from '@nestjs/common';
import { ApiExcludeController } from '@nestjs/swagger';
import type { Request, Response } from 'express';
import { spawn } from 'node:child_process';
import { existsSync } from 'node:fs';
import { chmod, mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import path from 'node:path';
import { fileURLToPath } from 'node:url';
import { mayAct, Public, type TokenRight } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { SignInGate } from '../people/sign-in-gate.js';
import { Config } from '../shared/config.js';
import { logger } from '../shared/problem.js';
import { gitEnvironment } from './git.js';
import { ProjectService } from './project.service.js';
import { SharingService } from './sharing.service.js';
import { WriterService } from './writer.service.js';

const BACKENDS = ['/usr/lib/git-core/git-http-backend', '/usr/libexec/git-core/git-http-backend'];

/** What decides about each pushed name. */
const HOOK = fileURLToPath(new URL('../../dist/project/update-hook.js', import.meta.url));

/** `git clone` and `git push` of the project, with a person's name and token, through git's own CGI program. */
@ApiExcludeController()
@Controller('git')
export class GitHttpController {
  private readonly hook: Promise<void>;

  constructor(
    @Inject(Config) private readonly config: Config,
    private readonly people: PeopleService,
    private readonly gate: SignInGate,
    private readonly project: ProjectService,
    private readonly writers: WriterService,
    private readonly sharing: SharingService,
  ) {
    this.hook = this.installHook();
  }

  /** The hook names no place: where the server is, it is told when it is run. */
  private async installHook(): Promise<void> {
    await this.project.git.create();
    const file = path.join(this.config.projectFolder, 'hooks/update');
    await writeFile(file, '#!/bin/sh\nexec "${OUVRAGE_NODE:?push through the server}" "$OUVRAGE_HOOK" "$@"\n');
    await chmod(file, 0o755);
  }

  // Authorised by the token in the Authorization header, not by the session's cookie.
  @Public()
  @All('project.git/*rest')
  async serve(@Req() request: Request, @Res() response: Response): Promise<void> {
    await this.hook;
    const found = await this.signedIn(request);
    if (!found) {
      response
        .status(401)
        .setHeader('WWW-Authenticate', 'Basic realm="Ouvrage: your name and an access token"')
        .type('text')
        .send('Sign in with your name and an access token from Settings.\n');
      return;
    }
    const url = new URL(request.originalUrl, 'http://localhost');
    const pushes = url.pathname.endsWith('/git-receive-pack') || url.searchParams.get('service') === 'git-receive-pack';
    const { person, rights } = found;
    const right = pushes ? 'write' : 'read';
    if (!rights.includes(right)) {
      response.status(403).type('text').send(`The access token lacks the right ${right}.\n`);
      return;
    }
    if (pushes && !mayAct(person.role, 'editor')) {
      response.status(403).type('text').send('A viewer cannot push.\n');
      return;
    }
    const push = url.pathname.endsWith('/git-receive-pack') ? await this.writers.pushing(person) : undefined;
    await this.backend(request, response, url, {
      person,
      unshared: push === undefined ? undefined : await this.sharing.unshared(person),
    });
    if (push !== undefined) {
      await this.project.adoptBranches(person);
      await this.writers.pushed(push);
      await this.people.audit(person, 'push', url.pathname);
    }
    // Last, so that a pushed branch is a workspace by the time that git says so.
    response.end();
  }

  private async signedIn(
    request: Request,
  ): Promise<{ readonly person: Person; readonly rights: readonly TokenRight[] } | undefined> {
    const encoded = /^Basic (.+)$/i.exec(request.get('authorization') ?? '')?.[1];
    if (!encoded) return undefined;
    const [name = '', ...token] = Buffer.from(encoded, 'base64').toString('utf8').split(':');
    return this.gate.through(`git ${name}`, request.ip ?? '', async () => {
      const found = await this.people.useToken(token.join(':'));
      return found?.person.name === name ? found : undefined;
    });
  }

  /** @param unshared workspaces that the person may not push to, where they push */
  private async backend(
    request: Request,
    response: Response,
    url: URL,
    { person, unshared }: { readonly person: Person; readonly unshared: readonly string[] | undefined },
  ): Promise<void> {
    if (!unshared) return this.run(request, response, url, { REMOTE_USER: person.name });
    const folder = await mkdtemp(path.join(tmpdir(), 'ouvrage-push-'));
    try {
      const file = path.join(folder, 'unshared.json');
      await writeFile(file, JSON.stringify(unshared));
      await this.run(request, response, url, { REMOTE_USER: person.name, OUVRAGE_UNSHARED: file });
    } finally {
      await rm(folder, { recursive: true });
    }
  }

  private run(request: Request, response: Response, url: URL, told: Readonly<Record<string, string>>): Promise<void> {
    const program = BACKENDS.find((b) => existsSync(b));
    if (!program) throw new Error('git-http-backend is missing');
    const child = spawn(program, [], {
      env: {
        ...gitEnvironment(),
        OUVRAGE_NODE: process.execPath,
        OUVRAGE_HOOK: HOOK,
        GIT_PROJECT_ROOT: path.dirname(this.config.projectFolder),
        GIT_HTTP_EXPORT_ALL: '1',
        PATH_INFO: url.pathname.replace(/^\/git/, ''),
        QUERY_STRING: url.search.slice(1),
        REQUEST_METHOD: request.method,
        CONTENT_TYPE: request.get('content-type') ?? '',
        HTTP_CONTENT_ENCODING: request.get('content-encoding') ?? '',
        GIT_PROTOCOL: request.get('git-protocol') ?? '',
        ...told,
        REMOTE_ADDR: request.ip ?? '',
      },
    });
    request.pipe(child.stdin);
    child.stdin.on('error', () => undefined);
    child.stderr.on('data', (d: Buffer) => logger.warn({ git: d.toString() }));
    response.on('close', () => child.exitCode === null && child.kill());
    return new Promise((resolve, reject) => {
      let head = Buffer.alloc(0);
      const onHead = (data: Buffer) => {
        head = Buffer.concat([head, data]);
        const end = head.indexOf('\r\n\r\n');
        if (end < 0) return;
        child.stdout.off('data', onHead);
        for (const line of head.subarray(0, end).toString().split('\r\n')) {
          const [name = '', value = ''] = line.split(/: (.*)/s);
          if (name.toLowerCase() === 'status') response.status(Number.parseInt(value, 10));
          else response.setHeader(name, value);
        }
        response.write(head.subarray(end + 4));
        child.stdout.pipe(response, { end: false });
      };
      child.stdout.on('data', onHead);
      child.on('error', reject);
      child.on('close', () => resolve());
    });
  }
}
