import { Module } from '@nestjs/common';
import { APP_INTERCEPTOR } from '@nestjs/core';
import { PeopleModule } from '../people/people.module.js';
import { ProjectModule } from '../project/project.module.js';
import { WarehouseModule } from '../warehouse/warehouse.module.js';
import { AnatomyController } from './anatomy.controller.js';
import { AnatomyService } from './anatomy.service.js';
import { ComparedController } from './compared.controller.js';
import { ComparedService } from './compared.service.js';
import { ExportTickets } from './export-tickets.js';
import { LookController } from './look.controller.js';
import { LookService } from './look.service.js';
import { LookTurns } from './look-turns.js';
import { PlanService } from './plan.service.js';
import { QueryPreparer } from './prepare-query.js';
import { PreviewController } from './preview.controller.js';
import { PreviewService } from './preview.service.js';
import { SeenService } from './seen.js';
import { ViewerAnswers } from './viewer-answers.js';
import { ViewerRights } from './viewer-rights.js';

/** Rows, profiles and previews, as the reader sees them. */
@Module({
  imports: [PeopleModule, ProjectModule, WarehouseModule],
  controllers: [PreviewController, AnatomyController, ComparedController, LookController],
  providers: [
    QueryPreparer,
    ViewerRights,
    SeenService,
    PreviewService,
    AnatomyService,
    ComparedService,
    PlanService,
    LookService,
    ExportTickets,
    LookTurns,
    { provide: APP_INTERCEPTOR, useClass: ViewerAnswers },
  ],
  exports: [PreviewService, LookTurns],
})
export class LookModule {}
