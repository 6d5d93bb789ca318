import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { hash, verify } from '@node-rs/argon2';
import { exhaustMap, filter, from, interval, merge, Subject, take, type Observable } from 'rxjs';
import { type EntityManager, In, LessThan, Repository } from 'typeorm';
import { randomToken, tokenHash } from '../shared/secret.js';
import { TOKEN_RIGHTS, type TokenRight } from './access.js';
import { AccessToken, Audit, Person, PERSON_ROLES, Session, type PersonRole } from './people.entities.js';

const SESSION_HOURS = 24 * 7;
/** How often an open event stream asks whether its session is still there. */
const SESSION_LOOK_MILLISECONDS = 5000;

/** What is kept beside who did what with what; in a transaction where `manager` is one's. */
type Audited = { readonly manager?: EntityManager } & Readonly<Record<string, unknown>>;

/** Entries of one page of the audit log. */
const AUDIT_PAGE = 100;

@Injectable()
export class PeopleService {
  /** Verified against when no such person exists, so that the answer takes as long. */
  private readonly nobody = hash(randomToken());

  private readonly signedOut = new Subject<string>();

  constructor(
    @InjectRepository(Person) private readonly people: Repository<Person>,
    @InjectRepository(Session) private readonly sessions: Repository<Session>,
    @InjectRepository(AccessToken) private readonly tokens: Repository<AccessToken>,
    @InjectRepository(Audit) private readonly audits: Repository<Audit>,
  ) {}

  async create(name: string, displayName: string, role: PersonRole, password: string): Promise<Person> {
    return this.people.save(this.people.create({ name, displayName, role, passwordHash: await hash(password) }));
  }

  count(): Promise<number> {
    return this.people.count();
  }

  /** People by their ids, in the order of their names. */
  byIds(ids: readonly string[]): Promise<Person[]> {
    return this.people.find({ where: { id: In(ids) }, order: { name: 'ASC' } });
  }

  /** Those who may do what a role may, in the order of their names. */
  async acting(role: PersonRole): Promise<Person[]> {
    const all = await this.people.find({ order: { displayName: 'ASC' } });
    return all.filter((p) => PERSON_ROLES.indexOf(p.role) >= PERSON_ROLES.indexOf(role));
  }

  /** The names of those who are administrators, for people who need one. */
  async administrators(): Promise<string[]> {
    return (await this.people.find({ where: { role: 'administrator' }, order: { displayName: 'ASC' } })).map(
      (p) => p.displayName,
    );
  }

  /** A new session for the right name and password; undefined for wrong ones. */
  async signIn(
    name: string,
    password: string,
  ): Promise<{ person: Person; token: string; session: Session } | undefined> {
    const person = await this.people.findOneBy({ name });
    const right = await verify(person?.passwordHash ?? (await this.nobody), password);
    if (!person || !right) return undefined;
    await this.sessions.delete({ expiresAt: LessThan(new Date(Date.now())) });
    const token = randomToken();
    const session = await this.sessions.save(
      this.sessions.create({
        id: tokenHash(token),
        person,
        csrf: randomToken(),
        expiresAt: new Date(Date.now() + SESSION_HOURS * 3_600_000),
      }),
    );
    return { person, token, session };
  }

  async session(token: string): Promise<Session | undefined> {
    const session = await this.sessions.findOne({ where: { id: tokenHash(token) }, relations: { person: true } });
    return session && session.expiresAt > new Date(Date.now()) ? session : undefined;
  }

  async signOut(token: string): Promise<void> {
    await this.sessions.delete({ id: tokenHash(token) });
    this.signedOut.next(token);
  }

  /** Gives a value once a session has ended: at once where this process ended it, else within some seconds. */
  sessionEnd(token: string): Observable<unknown> {
    const elsewhere = interval(SESSION_LOOK_MILLISECONDS).pipe(
      exhaustMap(() => from(this.session(token))),
      filter((session) => session === undefined),
    );
    return merge(this.signedOut.pipe(filter((t) => t === token)), elsewhere).pipe(take(1));
  }

  listTokens(person: Person): Promise<AccessToken[]> {
    return this.tokens.find({ where: { person: { id: person.id } }, order: { createdAt: 'DESC' } });
  }

  /** The token is shown once; only its hash is kept. */
  async createToken(
    person: Person,
    { label, rights, days }: { readonly label: string; readonly rights: readonly TokenRight[]; readonly days: number },
  ): Promise<{ token: string; id: string }> {
    const token = randomToken();
    const expiresAt = new Date(Date.now() + days * 86_400_000);
    const { id } = await this.tokens.save(
      this.tokens.create({
        person,
        label,
        hash: tokenHash(token),
        rights: [...new Set(rights)],
        expiresAt,
        lastUsedAt: null,
      }),
    );
    return { token, id };
  }

  async deleteToken(person: Person, id: string): Promise<boolean> {
    return ((await this.tokens.delete({ id, person: { id: person.id } })).affected ?? 0) > 0;
  }

  /** Whom a token belongs to and what it may; undefined of one that is unknown or has ended. */
  async useToken(
    token: string,
  ): Promise<{ readonly person: Person; readonly rights: readonly TokenRight[] } | undefined> {
    const found = await this.tokens.findOne({ where: { hash: tokenHash(token) }, relations: { person: true } });
    const now = new Date(Date.now());
    if (!found || found.expiresAt <= now) return undefined;
    await this.tokens.update(found.id, { lastUsedAt: now });
    return { person: found.person, rights: TOKEN_RIGHTS.filter((right) => found.rights.includes(right)) };
  }

  /** What people are called, by their ids. */
  async displayNames(): Promise<Map<string, string>> {
    return new Map((await this.people.find()).map((p) => [p.id, p.displayName]));
  }

  async audit(
    person: Person | string,
    action: string,
    subject: string,
    { manager = this.audits.manager, ...said }: Audited = {},
  ): Promise<void> {
    const detail = Object.keys(said).length ? said : null;
    await manager.insert(Audit, {
      person: typeof person === 'string' ? person : person.name,
      action,
      subject,
      detail: detail as never,
    });
  }

  /** A page of the audit log, newest first. @param before the id that the page is before */
  auditPage(before: string | undefined, text: string | undefined): Promise<Audit[]> {
    const page = this.audits.createQueryBuilder('a').orderBy('a.id', 'DESC').take(AUDIT_PAGE);
    if (before !== undefined) page.andWhere('a.id < :before', { before });
    if (text)
      page.andWhere('position(lower(:text) in lower(concat_ws(chr(10), a.person, a.action, a.subject))) > 0', { text });
    return page.getMany();
  }
}
