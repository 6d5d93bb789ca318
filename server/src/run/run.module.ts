import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { Setting } from '../shared/setting.entity.js';
import { BuildKit } from './build-kit.js';
import { BuildService } from './build.service.js';
import { ClockService } from './clock.service.js';
import { ProgressService } from './progress.service.js';
import { RunController } from './run.controller.js';
import { CheckResult, Run, RunStep } from './run.entities.js';
import { RunQueue } from './run-queue.js';
import { RunService } from './run.service.js';
import { ScriptService } from './script.service.js';
import { StepJournal } from './step-journal.js';

@Module({
  imports: [
    TypeOrmModule.forFeature([Run, RunStep, CheckResult, Setting]),
    PeopleModule,
    ProjectModule,
    WarehouseModule,
  ],
  controllers: [RunController],
  providers: [ProgressService, RunQueue, RunService, BuildKit, BuildService, ClockService, ScriptService, StepJournal],
  exports: [RunQueue, RunService, BuildKit, ClockService, StepJournal],
})
export class RunModule {}
