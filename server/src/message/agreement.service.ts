import { Injectable } from '@nestjs/common';
import { InjectRepository } from '@nestjs/typeorm';
import type { Agreed, Agreement } from '@ouvrage/api/agreement';
import { checkDigests, contractDigest } from '@ouvrage/core/check';
import type { Project } from '@ouvrage/core/model';
import { didYouMean } from '@ouvrage/core/sql';
import { Repository } from 'typeorm';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { ProjectService } from '../project/project.service.js';
import { AgreementRow } from '../quality/agreement.entities.js';
import type { Sent } from '../shared/answers.js';
import { Problem } from '../shared/problem.js';
import { ReceiverService } from './receiver.service.js';
import { currentTime } from '../shared/time.js';

/** What people have agreed to: the text of a check or a contract, as long as it stays what it was. */
@Injectable()
export class AgreementService {
  constructor(
    @InjectRepository(AgreementRow) private readonly agreements: Repository<AgreementRow>,
    private readonly projects: ProjectService,
    private readonly people: PeopleService,
    private readonly receivers: ReceiverService,
  ) {}

  /** All agreements, with whether they hold for the texts of a line. */
  async list(slug: string): Promise<Sent<readonly Agreement[]>> {
    const { project } = await this.projects.line(slug);
    const [found, people] = await Promise.all([
      this.agreements.find({ order: { at: 'ASC' } }),
      this.people.acting('viewer'),
    ]);
    return found.map(({ kind, subject, digest, person, desk, at }) => ({
      kind,
      subject,
      person: people.find((p) => p.name === person)?.displayName ?? person,
      desk,
      at,
      holds: digestOf(project, { kind, subject }) === digest,
    }));
  }

  /**
   * A person agrees to a text as it is, for themselves or for a desk of theirs.
   * @throws Problem for what is not there, and for a desk that is not the person's
   */
  async agree(me: Person, slug: string, { desk, ...agreed }: Agreed & { readonly desk: string | null }): Promise<void> {
    const { project } = await this.projects.line(slug);
    const digest = digestOf(project, agreed);
    if (digest === undefined) throw unknown(project, agreed);
    const own = (await this.receivers.receivers(me)).desks
      .filter((d) => d.members.includes(me.name))
      .map((d) => d.name);
    if (desk !== null && !own.includes(desk))
      throw new Problem(
        403,
        'not-your-desk',
        `You are not a member of ${desk}`,
        own.length ? `You can agree for ${own.join(', ')}.` : 'Agree for yourself.',
      );
    await this.agreements.upsert({ ...agreed, digest, person: me.name, desk, at: currentTime() }, [
      'kind',
      'subject',
      'person',
    ]);
    await this.people.audit(me, `${agreed.kind} agreed`, agreed.subject, desk === null ? {} : { desk });
  }

  /** A person takes back what they have agreed to. */
  async withdraw(me: Person, slug: string, { kind, subject }: Agreed): Promise<void> {
    await this.projects.line(slug);
    const gone = await this.agreements.delete({ kind, subject, person: me.name });
    if (gone.affected) await this.people.audit(me, `${kind} no longer agreed`, subject);
  }
}

/** What a text says now; undefined where there is none. */
function digestOf(project: Project, { kind, subject }: Agreed): string | undefined {
  return kind === 'check' ? checkDigests(project).get(subject) : contractDigest(project, subject);
}

function unknown(project: Project, { kind, subject }: Agreed): Problem {
  const names = kind === 'check' ? checkDigests(project).keys() : project.tables.keys();
  return new Problem(
    404,
    'not-found',
    kind === 'check' ? `There is no check ${subject}` : `${subject} has no contract`,
    didYouMean(subject, names),
  );
}
