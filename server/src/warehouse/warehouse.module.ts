import { Module } from '@nestjs/common';
import { ProjectModule } from '../project/project.module.js';
import { PreviewController } from './preview.controller.js';
import { PreviewService } from './preview.service.js';
import { WarehouseService } from './warehouse.service.js';

@Module({
  imports: [ProjectModule],
  controllers: [PreviewController],
  providers: [WarehouseService, PreviewService],
  exports: [WarehouseService],
})
export class WarehouseModule {}
