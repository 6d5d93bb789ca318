import { Module } from '@nestjs/common';
import { ProjectModule } from '../project/project.module.js';
import { LookController } from './look.controller.js';
import { LookTurns } from './look-turns.js';
import { LookService } from './look.service.js';
import { PreviewController } from './preview.controller.js';
import { PreviewService } from './preview.service.js';
import { ReaderService } from './reader.service.js';
import { WarehouseService } from './warehouse.service.js';

@Module({
  imports: [ProjectModule],
  controllers: [PreviewController, LookController],
  providers: [WarehouseService, ReaderService, PreviewService, LookService, LookTurns],
  exports: [WarehouseService, ReaderService],
})
export class WarehouseModule {}
