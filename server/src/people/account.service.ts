import { Inject, Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { Account, Issued } from '@ouvrage/api/people';
import { existsSync, readFileSync } from 'node:fs';
import { rm, writeFile } from 'node:fs/promises';
import path from 'node:path';
import { type EntityManager, IsNull, MoreThan, Repository } from 'typeorm';
import type { Sent } from '../shared/answers.js';
import { Config } from '../shared/config.js';
import { notFound, Problem } from '../shared/problem.js';
import { randomToken, sameText, spokenSecret, tokenHash } from '../shared/secret.js';
import { Person, type PersonRole, Session } from './people.entities.js';
import { isPassword, noPassword, passwordHash, refuseWeak } from './passwords.js';

/** For how long a link is good that lets somebody choose a password. */
const LINK_DAYS = 7;

/** What an administrator hands to somebody, by which they choose their own password. */
export const ISSUES = ['link', 'password'] as const;
export type Issue = (typeof ISSUES)[number];

/** What everybody is called. */
export interface Called {
  readonly name: string;
  readonly displayName: string;
}

/** Names are in addresses, in git and in mail. */
export const PERSON_NAME = /^[a-z][a-z0-9._-]{0,39}$/;
/** Names that are the application's own. */
const RESERVED: ReadonlySet<string> = new Set(['ouvrage']);
/** Runs of jobs are told as theirs: `job morning`. */
const OF_JOBS = /^job /i;

/** @throws Problem 422 for a name by which nobody can be called in commits: the signs of an author line, spaces around it */
function refuseName(displayName: string): void {
  if (
    displayName.trim() !== displayName ||
    /[<>\p{Cc}\p{Cf}]/u.test(displayName) ||
    displayName.trim() === '' ||
    OF_JOBS.test(displayName)
  )
    throw new Problem(
      422,
      'bad-name',
      'A person’s name has no angle brackets, no signs that cannot be seen, no spaces around it, and does not begin with job',
      'Write it as it should appear in commits, such as Mira Okafor.',
    );
}

/** Adds people, changes what they may, and lets them choose their passwords; makes the first administrator. */
@Injectable()
export class AccountService {
  constructor(
    @Inject(Config) private readonly config: Config,
    @InjectRepository(Person) private readonly people: Repository<Person>,
  ) {}

  /** All people, those who may sign in first. */
  async list(): Promise<Sent<Account>[]> {
    const all = await this.people.find({ order: { displayName: 'ASC' } });
    return all.map(accountOf).sort((a, b) => Number(a.state === 'disabled') - Number(b.state === 'disabled'));
  }

  async one(name: string): Promise<Person> {
    const person = await this.people.findOneBy({ name });
    if (!person) throw notFound(`The person ${name}`);
    return person;
  }

  /**
   * Adds somebody, who cannot sign in before they have chosen a password by what is issued.
   * @throws Problem 409 for a name that somebody has, whatever its case: in commits nobody passes for another
   */
  async add(called: Called, role: PersonRole, issue: Issue): Promise<Sent<Issued>> {
    refuseName(called.displayName);
    return this.people.manager.transaction(async (manager) => {
      await lockPeople(manager);
      await this.refuseTaken(manager, called);
      const person = await manager.save(
        manager.create(Person, { ...called, role, passwordHash: await noPassword(), mustChange: false }),
      );
      return this.issue(manager, person, issue);
    });
  }

  private async refuseTaken(manager: EntityManager, { name, displayName }: Called): Promise<void> {
    const others = (await manager.find(Person)).filter((p) => p.name !== name);
    if (RESERVED.has(name) || (await manager.existsBy(Person, { name })))
      throw new Problem(409, 'name-taken', `The name ${name} is taken`, 'Choose another one to sign in with.');
    refuseSame(others, displayName);
  }

  /**
   * Changes what a person is called, what they may, and whether they may sign in. Whoever may not any more is signed out
   * at once; their tokens open nothing.
   * @throws Problem 409 where no administrator who can sign in would be left
   */
  async change(
    name: string,
    { displayName, role, disabled }: { displayName: string; role: PersonRole; disabled: boolean },
  ): Promise<{ readonly before: Sent<Account>; readonly after: Sent<Account> }> {
    refuseName(displayName);
    return this.people.manager.transaction(async (manager) => {
      await lockPeople(manager);
      const person = await manager.findOneBy(Person, { name });
      if (!person) throw notFound(`The person ${name}`);
      const before = accountOf(person);
      refuseSame(
        (await manager.find(Person)).filter((p) => p.id !== person.id),
        displayName,
      );
      Object.assign(person, {
        displayName,
        role,
        disabledAt: disabled ? (person.disabledAt ?? new Date(Date.now())) : null,
      });
      await manager.save(person);
      const able = { role: 'administrator', disabledAt: IsNull(), linkHash: IsNull(), mustChange: false } as const;
      if (!(await manager.existsBy(Person, able)))
        throw new Problem(
          409,
          'last-administrator',
          'Nobody could administer Ouvrage any more',
          'Make somebody else an administrator first, and have them sign in.',
        );
      if (disabled) await manager.delete(Session, { person: { id: person.id } });
      return { before, after: accountOf(person) };
    });
  }

  /** Takes a person's password, ends their sessions, and issues what they choose a new one by. */
  reset(name: string, issue: Issue): Promise<Sent<Issued>> {
    return this.people.manager.transaction(async (manager) => {
      await lockPeople(manager);
      const person = await manager.findOneBy(Person, { name });
      if (!person) throw notFound(`The person ${name}`);
      if (person.disabledAt)
        throw new Problem(409, 'disabled', `${person.displayName} may not sign in`, 'Enable the account first.');
      await manager.delete(Session, { person: { id: person.id } });
      return this.issue(manager, person, issue);
    });
  }

  private async issue(manager: EntityManager, { id }: Person, issue: Issue): Promise<Sent<Issued>> {
    if (issue === 'password') {
      const secret = spokenSecret();
      await manager.update(Person, id, {
        passwordHash: await passwordHash(secret),
        mustChange: true,
        linkHash: null,
        linkEndsAt: null,
      });
      return { kind: 'password', secret, endsAt: null };
    }
    const secret = randomToken();
    const endsAt = new Date(Date.now() + LINK_DAYS * 86_400_000);
    await manager.update(Person, id, {
      passwordHash: await noPassword(),
      mustChange: false,
      linkHash: tokenHash(secret),
      linkEndsAt: endsAt,
    });
    return { kind: 'link', secret, endsAt };
  }

  /** Whose a link is; undefined of one that is unknown, used or has ended. */
  async ofLink(link: string): Promise<Person | undefined> {
    const linkEndsAt = MoreThan(new Date(Date.now()));
    const person = await this.people.findOneBy({ linkHash: tokenHash(link), linkEndsAt, disabledAt: IsNull() });
    return person ?? undefined;
  }

  /**
   * Chooses a password by a link, which is good for that once.
   * @returns undefined where the link is not good any more
   * @throws Problem 422 for a weak password; the link stays good
   */
  async useLink(link: string, password: string): Promise<Person | undefined> {
    const person = await this.ofLink(link);
    if (!person) return undefined;
    refuseWeak(password, [person.name, person.displayName]);
    const kept = { passwordHash: await passwordHash(password), mustChange: false, linkHash: null, linkEndsAt: null };
    // Of two who use it at once one comes second.
    const { affected } = await this.people.update({ id: person.id, linkHash: person.linkHash! }, kept);
    return affected === 1 ? { ...person, ...kept } : undefined;
  }

  /**
   * Changes one's own password.
   * @returns undefined where the present one is wrong
   * @throws Problem 422 for a weak one, and for the one that there was
   */
  async changePassword(person: Person, present: string, password: string): Promise<Person | undefined> {
    if (!(await isPassword(person.passwordHash, present))) return undefined;
    if (present === password)
      throw new Problem(422, 'same-password', 'This is the password that you have', 'Choose another one.');
    refuseWeak(password, [person.name, person.displayName]);
    await this.people.update(person.id, { passwordHash: await passwordHash(password), mustChange: false });
    return person;
  }

  /** Where the code of a first start is; whoever can read it administers the machine. */
  private get codeFile(): string {
    return path.join(this.config.data, 'setup-code.txt');
  }

  /** Makes the code of a first start, where there is none yet. */
  async makeCode(): Promise<void> {
    if (!existsSync(this.codeFile))
      await writeFile(this.codeFile, `${spokenSecret()}\n`, {
        mode: 0o600,
        flag: 'wx',
      }).catch(
        // Another server has made it in between.
        (error: NodeJS.ErrnoException) => {
          if (error.code !== 'EEXIST') throw error;
        },
      );
  }

  /** Whether nobody has been here yet: the first administrator is made by the code that the start printed. */
  async needsSetup(): Promise<boolean> {
    return !this.config.demo && existsSync(this.codeFile) && !(await this.people.exists());
  }

  /**
   * Makes the first administrator.
   * @returns undefined for a wrong code
   * @throws Problem 409 where there are people already, 422 for a weak password
   */
  async setUp(code: string, called: Called, password: string): Promise<Person | undefined> {
    if (!(await this.needsSetup())) throw isSetUp();
    if (!sameText(readFileSync(this.codeFile, 'utf8').trim(), code.trim())) return undefined;
    refuseName(called.displayName);
    if (RESERVED.has(called.name))
      throw new Problem(409, 'name-taken', `The name ${called.name} is taken`, 'Choose another one to sign in with.');
    refuseWeak(password, [called.name, called.displayName]);
    const made = await this.people.manager.transaction(async (manager) => {
      await lockPeople(manager);
      if (await manager.exists(Person)) throw isSetUp();
      const all = { ...called, role: 'administrator', passwordHash: await passwordHash(password), mustChange: false };
      return manager.save(manager.create(Person, all as Partial<Person>));
    });
    await rm(this.codeFile, { force: true });
    return made;
  }
}

const isSetUp = () => new Problem(409, 'is-set-up', 'Ouvrage is set up already', 'Reload the page and sign in.');

/** Two changes at once could each leave the other's administrator. */
const lockPeople = (manager: EntityManager) => manager.query('lock table person in share row exclusive mode');

/** @throws Problem 409 where somebody else is called the same */
function refuseSame(others: readonly Person[], displayName: string): void {
  const same = others.find((p) => p.displayName.toLowerCase() === displayName.toLowerCase());
  if (same)
    throw new Problem(
      409,
      'name-taken',
      `${same.name} is called ${same.displayName}, too`,
      'Tell them apart, such as by a middle name: commits and reviews show it.',
    );
}

const accountOf = (p: Person): Sent<Account> => ({
  name: p.name,
  displayName: p.displayName,
  role: p.role,
  state: p.disabledAt ? 'disabled' : p.linkHash ? 'link issued' : p.mustChange ? 'password issued' : 'active',
  lastSignInAt: p.lastSignInAt,
  linkEndsAt: p.linkEndsAt,
});
