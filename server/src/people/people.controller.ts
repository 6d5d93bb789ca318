import type { AccessToken, AuditEntry, NewToken, SessionAnswer } from '@ouvrage/api/people';
import { csvField } from '@ouvrage/core/index';
import { Readable } from 'node:stream';
import { fileAnswer, type Sent } from '../shared/answers.js';
import {
  Body,
  Controller,
  Delete,
  Get,
  HttpCode,
  Param,
  ParseUUIDPipe,
  Post,
  Query,
  Req,
  Res,
  StreamableFile,
} from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import type { Request, Response } from 'express';
import { ArrayMinSize, IsIn } from 'class-validator';
import { Optional, OptionalText, OptionalWhole, Text } from '../shared/fields.js';
import { notFound, Problem } from '../shared/problem.js';
import { Me, Needs, NotForTokens, Public, TOKEN_RIGHTS, type TokenRight, WithGivenPassword } from './access.js';
import { AccountService } from './account.service.js';
import type { Audit, Person } from './people.entities.js';
import { PeopleService } from './people.service.js';
import { begun, COOKIE, originOf, sessionAnswer, sessionToken } from './session-cookie.js';
import { SessionService } from './session.service.js';
import { SignInGate } from './sign-in-gate.js';

class SignInBody {
  @Text(1, 100, 'mira')
  name: string;

  @Text(1, 200)
  password: string;
}

/** A token ends by itself, so that one that is forgotten opens nothing for long. */
const USUAL_DAYS = 90;

class TokenBody {
  @Text(1, 100, 'my laptop')
  label: string;

  /** `read` and `write` where nothing is said. */
  @Optional()
  @ArrayMinSize(1)
  @IsIn(TOKEN_RIGHTS, { each: true })
  @ApiProperty({ enum: TOKEN_RIGHTS, isArray: true, required: false })
  rights?: TokenRight[];

  /** Days until it ends; 90 where nothing is said. */
  @OptionalWhole(1, 365)
  days?: number;
}

class AuditTextQuery {
  /** Part of a name, an action or a subject. */
  @OptionalText(100)
  text?: string;
}

class AuditQuery extends AuditTextQuery {
  /** The id that the page is before. */
  @OptionalWhole(1, Number.MAX_SAFE_INTEGER)
  before?: number;
}

@ApiTags('people')
@Controller('api')
export class PeopleController {
  constructor(
    private readonly people: PeopleService,
    private readonly accounts: AccountService,
    private readonly sessions: SessionService,
    private readonly gate: SignInGate,
  ) {}

  /** Begins a session: its cookie, the person and the token that changes need. */
  @Public()
  @Post('sign-in')
  @ApiOkResponse({
    headers: { 'Set-Cookie': { description: 'The session: HttpOnly, SameSite=Strict.', schema: { type: 'string' } } },
  })
  @HttpCode(200)
  async signIn(
    @Body() { name, password }: SignInBody,
    @Req() request: Request,
    @Res({ passthrough: true }) response: Response,
  ): Promise<Sent<SessionAnswer>> {
    const from = originOf(request);
    const person = await this.gate.through(name, from.address, () => this.people.known(name, password));
    if (!person) {
      await this.people.audit(name.slice(0, 100), 'sign-in refused', from.address);
      throw new Problem(
        401,
        'wrong-password',
        'The name or password is wrong',
        'Check both; the password is case-sensitive.',
      );
    }
    await this.people.audit(person, 'sign-in', from.address);
    return begun(response, await this.sessions.begin(person, from));
  }

  /** Ends the session. */
  @WithGivenPassword()
  @Post('sign-out')
  @HttpCode(204)
  async signOut(
    @Me() me: Person,
    @Req() request: Request,
    @Res({ passthrough: true }) response: Response,
  ): Promise<void> {
    await this.sessions.end(sessionToken(request)!);
    await this.people.audit(me, 'sign-out', '');
    response.clearCookie(COOKIE, { path: '/' });
  }

  /** Who is signed in, if anybody; whether a first administrator is yet to be made. */
  @Public()
  @Get('session')
  async session(@Req() request: Request): Promise<Sent<SessionAnswer>> {
    const token = sessionToken(request);
    const session = token ? await this.sessions.of(token) : undefined;
    if (session) return sessionAnswer(session);
    return { person: null, csrf: null, mustChange: false, needsSetup: await this.accounts.needsSetup() };
  }

  /** One’s own tokens; their secrets are not kept. */
  @NotForTokens()
  @Get('tokens')
  async tokens(@Me() me: Person): Promise<Sent<readonly AccessToken[]>> {
    return (await this.people.listTokens(me)).map(({ id, label, rights, createdAt, expiresAt, lastUsedAt }) => ({
      id,
      label,
      rights: TOKEN_RIGHTS.filter((right) => rights.includes(right)),
      expiresAt,
      createdAt,
      lastUsedAt,
    }));
  }

  /** A new token, for git and for programs, shown this once. */
  @Post('tokens')
  async createToken(
    @Me() me: Person,
    @Body() { label, rights = ['read', 'write'], days = USUAL_DAYS }: TokenBody,
  ): Promise<Sent<NewToken>> {
    const made = await this.people.createToken(me, { label, rights, days });
    await this.people.audit(me, 'token made', label, { rights, days });
    return made;
  }

  /** Makes a token useless. */
  @Delete('tokens/:id')
  @HttpCode(204)
  async deleteToken(@Me() me: Person, @Param('id', ParseUUIDPipe) id: string): Promise<void> {
    if (!(await this.people.deleteToken(me, id))) throw notFound('The token');
    await this.people.audit(me, 'token deleted', id);
  }

  /** A page of the log: who did what, newest first. */
  @NotForTokens()
  @Needs('administrator')
  @Get('audit')
  audit(@Query() { before, text }: AuditQuery): Promise<Sent<readonly AuditEntry[]>> {
    return this.people.auditPage(before === undefined ? undefined : String(before), text);
  }

  /** The log as a CSV file, newest first. */
  @NotForTokens()
  @Needs('administrator')
  @Get('audit/export')
  @ApiOkResponse(fileAnswer(['text/csv']))
  async auditFile(
    @Me() me: Person,
    @Query() { text }: AuditTextQuery,
    @Res({ passthrough: true }) response: Response,
  ): Promise<StreamableFile> {
    await this.people.audit(me, 'log exported', text ?? '');
    response.setHeader('Content-Type', 'text/csv; charset=utf-8');
    response.setHeader('Content-Disposition', 'attachment; filename="log.csv"');
    return new StreamableFile(Readable.from(auditAsCsv(this.people.auditPages(text))));
  }
}

/** The log as CSV, a line each. */
async function* auditAsCsv(pages: AsyncIterable<readonly Audit[]>): AsyncGenerator<string> {
  const line = (values: readonly (string | null)[]) => `${values.map(csvField).join(',')}\r\n`;
  yield line(['at', 'person', 'action', 'subject', 'detail']);
  for await (const page of pages)
    yield page
      .map((e) =>
        line([e.at.toISOString(), e.person, e.action, e.subject, e.detail === null ? null : JSON.stringify(e.detail)]),
      )
      .join('');
}
