import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { PeopleModule } from '../people/people.module.js';
import { GitHttpController } from './git-http.controller.js';
import { ProjectController } from './project.controller.js';
import { CommitAuthor, Draft, Workspace } from './project.entities.js';
import { ProjectService } from './project.service.js';

@Module({
  imports: [TypeOrmModule.forFeature([Workspace, Draft, CommitAuthor]), PeopleModule],
  controllers: [ProjectController, GitHttpController],
  providers: [ProjectService],
  exports: [ProjectService],
})
export class ProjectModule {}
