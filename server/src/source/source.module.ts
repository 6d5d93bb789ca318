import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { RunStep } from '../run/run.entities.js';
import { RunModule } from '../run/run.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { ConnectionController } from './connection.controller.js';
import { ConnectionService } from './connection.service.js';
import { DeliveryController } from './delivery.controller.js';
import { Delivery } from './delivery.entities.js';
import { DeliveryListService } from './delivery-list.service.js';
import { DeliveryService } from './delivery.service.js';
import { ImportService } from './import.service.js';
import { IntakeService } from './intake.service.js';
import { SourceController } from './source.controller.js';
import { SourceStateService } from './source-state.service.js';
import { Binding, Connection, Setting, SourceState } from './source.entities.js';

@Module({
  imports: [PeopleModule, TypeOrmModule.forFeature([Connection, Binding, SourceState, Delivery, Setting, RunStep]), ProjectModule, WarehouseModule, RunModule],
  controllers: [SourceController, ConnectionController, DeliveryController],
  providers: [ConnectionService, DeliveryListService, DeliveryService, ImportService, IntakeService, SourceStateService],
  exports: [ConnectionService, DeliveryListService, DeliveryService, ImportService, IntakeService, SourceStateService, TypeOrmModule],
})
export class SourceModule {}
