import { DraftService } from './draft.service.js';
import { Config } from '../shared/config.js';
import { GitStore } from './git.js';
import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { Person } from '../people/people.entities.js';
import { PeopleModule } from '../people/people.module.js';
import { GitHttpController } from './git-http.controller.js';
import { ProjectController } from './project.controller.js';
import { BranchWriter, CommitAuthor, Draft, Push, Workspace } from './project.entities.js';
import { ProjectService } from './project.service.js';
import { SharingService } from './sharing.service.js';
import { WithdrawalService } from './withdrawal.service.js';
import { WriterService } from './writer.service.js';

@Module({
  imports: [TypeOrmModule.forFeature([Workspace, Draft, CommitAuthor, BranchWriter, Push, Person]), PeopleModule],
  controllers: [ProjectController, GitHttpController],
  providers: [
    { provide: GitStore, useFactory: (config: Config) => new GitStore(config.projectFolder), inject: [Config] },
    DraftService,
    ProjectService,
    SharingService,
    WithdrawalService,
    WriterService,
  ],
  exports: [DraftService, ProjectService, SharingService, WithdrawalService, WriterService],
})
export class ProjectModule {}
