import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { ProjectModule } from '../project/project.module.js';
import { RunStep } from '../run/run.entities.js';
import { RunModule } from '../run/run.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { ConnectionService } from './connection.service.js';
import { IntakeService } from './intake.service.js';
import { SourceController } from './source.controller.js';
import { Connection, Setting } from './source.entities.js';

@Module({
  imports: [TypeOrmModule.forFeature([Connection, Setting, RunStep]), ProjectModule, WarehouseModule, RunModule],
  controllers: [SourceController],
  providers: [ConnectionService, IntakeService],
  exports: [ConnectionService, IntakeService, TypeOrmModule],
})
export class SourceModule {}
