import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { OwnSession, SessionLimits } from '@ouvrage/api/people';
import { exhaustMap, filter, from, interval, merge, Subject, take, type Observable } from 'rxjs';
import { LessThan, Not, Repository } from 'typeorm';
import type { Sent } from '../shared/answers.js';
import { randomToken, tokenHash } from '../shared/secret.js';
import { Setting } from '../shared/setting.entity.js';
import { Person, Session } from './people.entities.js';

/** How often an open event stream asks whether its session is still there. */
const SESSION_LOOK_MILLISECONDS = 5000;
/** The use of a session is noted at most so often. */
const NOTED_MILLISECONDS = 60_000;
/** For how long the limits are known without asking for them: another process may have changed them. */
const LIMITS_MILLISECONDS = 5000;
const HOUR_MILLISECONDS = 3_600_000;

const LIMITS = 'sessions';
const USUAL: SessionLimits = { idleHours: 24, days: 7 };

/** Characters of what a browser says about itself that are kept. */
const MOST_AGENT = 300;

/** From where a session was begun. */
export interface Origin {
  readonly address: string;
  readonly agent: string;
}

/** Who is signed in where, and until when. */
@Injectable()
export class SessionService {
  private readonly signedOut = new Subject<string>();
  private known: { readonly limits: SessionLimits; readonly at: number } | undefined;

  constructor(
    @InjectRepository(Session) private readonly sessions: Repository<Session>,
    @InjectRepository(Setting) private readonly settings: Repository<Setting>,
  ) {}

  /** Hours without use and days in all after which a session ends. */
  async limits(): Promise<SessionLimits> {
    const now = Date.now();
    if (!this.known || now - this.known.at > LIMITS_MILLISECONDS || now < this.known.at) {
      const found = await this.settings.findOneBy({ name: LIMITS });
      this.known = { limits: found ? (found.value as SessionLimits) : USUAL, at: now };
    }
    return this.known.limits;
  }

  async limit(limits: SessionLimits): Promise<void> {
    await this.settings.upsert({ name: LIMITS, value: { ...limits } }, ['name']);
    this.known = undefined;
  }

  /** Whether a session has not ended; shorter limits end those that are there, too. */
  private async goesOn({ begunAt, usedAt, expiresAt }: Session): Promise<boolean> {
    const { idleHours, days } = await this.limits();
    const now = Date.now();
    return (
      expiresAt.getTime() > now &&
      begunAt.getTime() + days * 24 * HOUR_MILLISECONDS > now &&
      usedAt.getTime() + idleHours * HOUR_MILLISECONDS > now
    );
  }

  /** A new session of somebody who has shown who they are. */
  async begin(person: Person, { address, agent }: Origin): Promise<{ token: string; session: Session }> {
    const now = new Date(Date.now());
    await this.sessions.delete({ expiresAt: LessThan(now) });
    await this.sessions.manager.update(Person, person.id, { lastSignInAt: now });
    const token = randomToken();
    const session = await this.sessions.save(
      this.sessions.create({
        id: tokenHash(token),
        person,
        csrf: randomToken(),
        begunAt: now,
        usedAt: now,
        address,
        agent: agent.slice(0, MOST_AGENT),
        expiresAt: new Date(now.getTime() + (await this.limits()).days * 24 * HOUR_MILLISECONDS),
      }),
    );
    return { token, session };
  }

  /** The session of a cookie; undefined where it has ended, or its person may not sign in any more. */
  async of(token: string): Promise<Session | undefined> {
    const session = await this.sessions.findOne({ where: { id: tokenHash(token) }, relations: { person: true } });
    return session && session.person.disabledAt === null && (await this.goesOn(session)) ? session : undefined;
  }

  /** Notes that a session is used, so that it is not taken for idle. */
  async used({ id, usedAt }: Session): Promise<void> {
    const now = Date.now();
    if (now - usedAt.getTime() >= NOTED_MILLISECONDS) await this.sessions.update(id, { usedAt: new Date(now) });
  }

  async end(token: string): Promise<void> {
    await this.sessions.delete({ id: tokenHash(token) });
    this.signedOut.next(token);
  }

  /** The sessions of a person that have not ended, the last used first. @param token of the one that asks */
  async list(person: Person, token: string | undefined): Promise<Sent<OwnSession>[]> {
    const all = await this.sessions.find({ where: { person: { id: person.id } }, order: { usedAt: 'DESC' } });
    const on = await Promise.all(all.map((s) => this.goesOn(s)));
    const own = token === undefined ? undefined : tokenHash(token);
    return all
      .filter((_, i) => on[i])
      .map(({ id, number, begunAt, usedAt, address, agent }) => ({
        number,
        begunAt,
        usedAt,
        address,
        agent,
        isThis: id === own,
      }));
  }

  /** Ends one of a person's own sessions. @returns whether there was one */
  async endOne(person: Person, number: string): Promise<boolean> {
    return ((await this.sessions.delete({ number, person: { id: person.id } })).affected ?? 0) > 0;
  }

  /** Ends all sessions of a person. @param kept the token of one that goes on */
  async endAll(person: Person, kept?: string): Promise<void> {
    await this.sessions.delete({
      person: { id: person.id },
      ...(kept === undefined ? {} : { id: Not(tokenHash(kept)) }),
    });
  }

  /** Gives a value once a session has ended: at once where this process ended it, else within some seconds. */
  whenEnded(token: string): Observable<unknown> {
    const elsewhere = interval(SESSION_LOOK_MILLISECONDS).pipe(
      exhaustMap(() => from(this.of(token))),
      filter((session) => session === undefined),
    );
    return merge(this.signedOut.pipe(filter((t) => t === token)), elsewhere).pipe(take(1));
  }
}
