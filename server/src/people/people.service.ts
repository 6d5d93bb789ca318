import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import { type EntityManager, In, IsNull, Repository } from 'typeorm';
import { Problem } from '../shared/problem.js';
import { randomToken, tokenHash } from '../shared/secret.js';
import { TOKEN_RIGHTS, type TokenRight } from './access.js';
import { isPassword, noPassword, passwordHash } from './passwords.js';
import { AccessToken, Audit, Person, PERSON_ROLES, type PersonRole } from './people.entities.js';

/** What is kept beside who did what with what; in a transaction where `manager` is one's. */
type Audited = { readonly manager?: EntityManager } & Readonly<Record<string, unknown>>;

/** Entries of one page of the audit log. */
const AUDIT_PAGE = 100;

@Injectable()
export class PeopleService {
  /** Verified against when no such person exists, so that the answer takes as long. */
  private readonly nobody = noPassword();

  constructor(
    @InjectRepository(Person) private readonly people: Repository<Person>,
    @InjectRepository(AccessToken) private readonly tokens: Repository<AccessToken>,
    @InjectRepository(Audit) private readonly audits: Repository<Audit>,
  ) {}

  async create(name: string, displayName: string, role: PersonRole, password: string): Promise<Person> {
    return this.people.save(
      this.people.create({ name, displayName, role, passwordHash: await passwordHash(password) }),
    );
  }

  count(): Promise<number> {
    return this.people.count();
  }

  /** People by their ids, in the order of their names. */
  byIds(ids: readonly string[]): Promise<Person[]> {
    return this.people.find({ where: { id: In(ids) }, order: { name: 'ASC' } });
  }

  /** Those who may do what a role may, in the order of their names; not who may not sign in any more. */
  async acting(role: PersonRole): Promise<Person[]> {
    const all = await this.people.find({ where: { disabledAt: IsNull() }, order: { displayName: 'ASC' } });
    return all.filter((p) => PERSON_ROLES.indexOf(p.role) >= PERSON_ROLES.indexOf(role));
  }

  /** The names of those who are administrators, for people who need one. */
  async administrators(): Promise<string[]> {
    return (await this.acting('administrator')).map((p) => p.displayName);
  }

  /**
   * The person of a name and password; undefined for wrong ones.
   * @throws Problem 403 for somebody who may not sign in any more, told to those alone who know the password
   */
  async known(name: string, password: string): Promise<Person | undefined> {
    const person = await this.people.findOneBy({ name });
    const right = await isPassword(person?.passwordHash ?? (await this.nobody), password);
    if (!person || !right) return undefined;
    if (person.disabledAt)
      throw new Problem(403, 'disabled', 'You may not sign in any more', 'An administrator has disabled your account.');
    return person;
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
    if (!found || found.expiresAt <= now || found.person.disabledAt) return undefined;
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

  /** All of the log that a page would be of, page by page. */
  async *auditPages(text: string | undefined): AsyncGenerator<readonly Audit[]> {
    for (let page = await this.auditPage(undefined, text); page.length > 0;) {
      yield page;
      page = await this.auditPage(page.at(-1)!.id, text);
    }
  }
}
