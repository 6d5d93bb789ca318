import { Module } from '@nestjs/common';
import { ProjectModule } from '../project/project.module.js';
import { ReaderService } from './reader.service.js';
import { WarehouseService } from './warehouse.service.js';

@Module({
  imports: [ProjectModule],
  providers: [WarehouseService, ReaderService],
  exports: [WarehouseService, ReaderService],
})
export class WarehouseModule {}
