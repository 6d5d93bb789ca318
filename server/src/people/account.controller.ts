import type { Account, Issued, LinkOwner, OwnSession, SessionAnswer, SessionLimits } from '@ouvrage/api/people';
import { Body, Controller, Delete, Get, HttpCode, Ip, Param, ParseUUIDPipe, Post, Put, Req, Res } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { IsIn, Matches } from 'class-validator';
import type { Request, Response } from 'express';
import type { Sent } from '../shared/answers.js';
import { Flag, Text, Whole } from '../shared/fields.js';
import { notFound, Problem } from '../shared/problem.js';
import { Me, Needs, NotForTokens, Public, WithGivenPassword } from './access.js';
import { AccountService, type Issue, ISSUES, PERSON_NAME } from './account.service.js';
import { MOST_PASSWORD } from './passwords.js';
import { type Person, PERSON_ROLES, type PersonRole } from './people.entities.js';
import { PeopleService } from './people.service.js';
import { begun, originOf, sessionToken } from './session-cookie.js';
import { SessionService } from './session.service.js';
import { SignInGate } from './sign-in-gate.js';

/** Characters of what a person is called. */
const MOST_NAME = 100;

class CalledBody {
  /** What they sign in with. */
  @Text(1, 40, 'nils')
  @Matches(PERSON_NAME, {
    message: 'name has small letters, digits, points, dashes and lines, and begins with a letter',
  })
  name: string;

  @Text(1, MOST_NAME, 'Nils Aho')
  displayName: string;
}

class IssueBody {
  /** A link, or a password that has to be changed. */
  @IsIn(ISSUES)
  @ApiProperty({ enum: ISSUES })
  issue: Issue;
}

class NewPersonBody extends CalledBody {
  @IsIn(PERSON_ROLES)
  @ApiProperty({ enum: PERSON_ROLES })
  role: PersonRole;

  @IsIn(ISSUES)
  @ApiProperty({ enum: ISSUES })
  issue: Issue;
}

class PersonBody {
  @Text(1, MOST_NAME, 'Nils Aho')
  displayName: string;

  @IsIn(PERSON_ROLES)
  @ApiProperty({ enum: PERSON_ROLES })
  role: PersonRole;

  /** Whether they may not sign in any more. */
  @Flag()
  disabled: boolean;
}

class SetUpBody extends CalledBody {
  /** What the start printed. */
  @Text(1, 100)
  code: string;

  @Text(1, MOST_PASSWORD)
  password: string;
}

class LinkBody {
  @Text(1, 100)
  link: string;
}

class ChosenBody extends LinkBody {
  @Text(1, MOST_PASSWORD)
  password: string;
}

class OwnPasswordBody {
  /** The one that there is. */
  @Text(1, MOST_PASSWORD)
  present: string;

  @Text(1, MOST_PASSWORD)
  password: string;
}

class LimitsBody {
  @Whole(1, 24 * 90)
  idleHours: number;

  @Whole(1, 90)
  days: number;
}

const wrongLink = () =>
  new Problem(
    404,
    'wrong-link',
    'This link is not good any more',
    'A link is good once, for seven days. Ask an administrator for another one.',
  );

@ApiTags('people')
@Controller('api')
export class AccountController {
  constructor(
    private readonly accounts: AccountService,
    private readonly people: PeopleService,
    private readonly sessions: SessionService,
    private readonly gate: SignInGate,
  ) {}

  /** Everybody who may sign in, or could once. */
  @Needs('administrator')
  @NotForTokens()
  @Get('people')
  list(): Promise<Sent<readonly Account[]>> {
    return this.accounts.list();
  }

  /** Adds somebody; what they choose their password by is shown this once. */
  @Needs('administrator')
  @Post('people')
  async add(@Me() me: Person, @Body() { name, displayName, role, issue }: NewPersonBody): Promise<Sent<Issued>> {
    const issued = await this.accounts.add({ name, displayName }, role, issue);
    await this.people.audit(me, 'person added', name, { displayName, role, issue });
    return issued;
  }

  /** Changes a person's name and role, and whether they may sign in. */
  @Needs('administrator')
  @Put('people/:name')
  async change(
    @Me() me: Person,
    @Param('name') name: string,
    @Body() { displayName, role, disabled }: PersonBody,
  ): Promise<Sent<Account>> {
    if (disabled && name === me.name)
      throw new Problem(409, 'is-yourself', 'You cannot disable yourself', 'Another administrator can.');
    const { before, after } = await this.accounts.change(name, { displayName, role, disabled });
    await this.people.audit(me, 'person changed', name, {
      ...(before.displayName === displayName ? {} : { displayName: [before.displayName, displayName] }),
      ...(before.role === role ? {} : { role: [before.role, role] }),
      ...((before.state === 'disabled') === disabled ? {} : { disabled }),
    });
    return after;
  }

  /** Takes a person's password and ends their sessions; what they choose another one by is shown this once. */
  @Needs('administrator')
  @Post('people/:name/reset')
  async reset(@Me() me: Person, @Param('name') name: string, @Body() { issue }: IssueBody): Promise<Sent<Issued>> {
    const issued = await this.accounts.reset(name, issue);
    await this.people.audit(me, 'password reset', name, { issue });
    return issued;
  }

  /** Makes the first administrator, with the code that the start printed, and signs them in. */
  @Public()
  @Post('setup')
  @HttpCode(200)
  async setUp(
    @Body() { code, name, displayName, password }: SetUpBody,
    @Req() request: Request,
    @Res({ passthrough: true }) response: Response,
  ): Promise<Sent<SessionAnswer>> {
    const from = originOf(request);
    const made = await this.gate.through('setup', from.address, () =>
      this.accounts.setUp(code, { name, displayName }, password),
    );
    if (!made)
      throw new Problem(403, 'wrong-code', 'The setup code is wrong', 'The command that started Ouvrage printed it.');
    await this.people.audit(made, 'first administrator made', from.address);
    return begun(response, await this.sessions.begin(made, from));
  }

  /** Whose a link is, so that they know what they will sign in with. */
  @Public()
  @Post('links/look')
  @HttpCode(200)
  async ofLink(@Body() { link }: LinkBody): Promise<Sent<LinkOwner>> {
    // Of 256 random bits nobody guesses one: attempts are not slowed down.
    const found = await this.accounts.ofLink(link);
    if (!found) throw wrongLink();
    return { name: found.name, displayName: found.displayName };
  }

  /** Chooses a password by a link, and signs in. */
  @Public()
  @Post('links/use')
  @HttpCode(200)
  async useLink(
    @Body() { link, password }: ChosenBody,
    @Req() request: Request,
    @Res({ passthrough: true }) response: Response,
  ): Promise<Sent<SessionAnswer>> {
    const from = originOf(request);
    const person = await this.accounts.useLink(link, password);
    if (!person) throw wrongLink();
    await this.people.audit(person, 'password chosen by link', from.address);
    return begun(response, await this.sessions.begin(person, from));
  }

  /** Changes one's own password, and ends one's other sessions. */
  @WithGivenPassword()
  @Put('me/password')
  @HttpCode(204)
  async changePassword(
    @Me() me: Person,
    @Body() { present, password }: OwnPasswordBody,
    @Req() request: Request,
    @Ip() ip: string,
  ): Promise<void> {
    // Counted apart: whoever finds a session open cannot keep its person from signing in.
    const changed = await this.gate.through(`password of ${me.name}`, ip, () =>
      this.accounts.changePassword(me, present, password),
    );
    if (!changed) {
      await this.people.audit(me, 'password change refused', ip);
      throw new Problem(422, 'wrong-password', 'The present password is wrong', 'Nothing was changed.');
    }
    await this.sessions.endAll(me, sessionToken(request));
    await this.people.audit(me, 'password changed', ip);
  }

  /** Where one is signed in. */
  @NotForTokens()
  @Get('me/sessions')
  ownSessions(@Me() me: Person, @Req() request: Request): Promise<Sent<readonly OwnSession[]>> {
    return this.sessions.list(me, sessionToken(request));
  }

  /** Signs out one of one's own sessions. */
  @Delete('me/sessions/:number')
  @HttpCode(204)
  async endSession(@Me() me: Person, @Param('number', ParseUUIDPipe) number: string): Promise<void> {
    if (!(await this.sessions.endOne(me, number))) throw notFound('The session');
    await this.people.audit(me, 'session ended', number);
  }

  /** After how long a session ends by itself. */
  @NotForTokens()
  @Get('session-limits')
  limits(): Promise<Sent<SessionLimits>> {
    return this.sessions.limits();
  }

  /** Changes after how long sessions end; those that are there, too. */
  @Needs('administrator')
  @Put('session-limits')
  @HttpCode(204)
  async limit(@Me() me: Person, @Body() { idleHours, days }: LimitsBody): Promise<void> {
    await this.sessions.limit({ idleHours, days });
    await this.people.audit(me, 'session limits changed', '', { idleHours, days });
  }
}
