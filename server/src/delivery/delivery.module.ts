import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { RunModule } from '../run/run.module.js';
import { SourceModule } from '../source/source.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { DeliveryController } from './delivery.controller.js';
import { Delivery } from './delivery.entities.js';
import { DeliveryListService } from './delivery-list.service.js';
import { DeliveryLoader } from './delivery-loader.js';
import { DeliveryWatcher } from './delivery-watcher.js';
import { DropFolder } from './drop-folder.js';

@Module({
  imports: [
    PeopleModule,
    TypeOrmModule.forFeature([Delivery]),
    ProjectModule,
    WarehouseModule,
    RunModule,
    SourceModule,
  ],
  controllers: [DeliveryController],
  providers: [DeliveryListService, DropFolder, DeliveryLoader, DeliveryWatcher],
  exports: [DeliveryListService, DropFolder, DeliveryWatcher],
})
export class DeliveryModule {}
