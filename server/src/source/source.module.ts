import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { ConnectionModule } from '../connection/connection.module.js';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { RunStep } from '../run/run.entities.js';
import { RunModule } from '../run/run.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { ImportService } from './import.service.js';
import { IntakeService } from './intake.service.js';
import { SourceController } from './source.controller.js';
import { SourceStateService } from './source-state.service.js';
import { SourceState } from './source.entities.js';

@Module({
  imports: [
    PeopleModule,
    TypeOrmModule.forFeature([SourceState, RunStep]),
    ProjectModule,
    WarehouseModule,
    ConnectionModule,
    RunModule,
  ],
  controllers: [SourceController],
  providers: [ImportService, IntakeService, SourceStateService],
  exports: [ImportService, IntakeService, SourceStateService],
})
export class SourceModule {}
