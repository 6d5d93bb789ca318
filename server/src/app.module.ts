import { Controller, Get, Global, Module, type DynamicModule } from '@nestjs/common';
import { ApiTags } from '@nestjs/swagger';
import { InjectDataSource, TypeOrmModule } from '@nestjs/typeorm';
import { DataSource } from 'typeorm';
import { dataSourceOptions } from './database/data-source.js';
import { Public } from './people/access.js';
import { PeopleModule } from './people/people.module.js';
import { ProjectModule } from './project/project.module.js';
import { QualityModule } from './quality/quality.module.js';
import { ReleaseModule } from './release/release.module.js';
import { ReviewModule } from './review/review.module.js';
import { RunModule } from './run/run.module.js';
import { Seeder } from './seeder.js';
import { Config } from './shared/config.js';
import { ConnectionModule } from './connection/connection.module.js';
import { DeliveryModule } from './delivery/delivery.module.js';
import { ExampleModule } from './example/example.module.js';
import { IncidentModule } from './incident/incident.module.js';
import { MessageModule } from './message/message.module.js';
import { JobModule } from './job/job.module.js';
import { LookModule } from './look/look.module.js';
import { SourceModule } from './source/source.module.js';
import { StandinModule } from './standin/standin.module.js';
import { WatchModule } from './watch/watch.module.js';
import { WarehouseModule } from './warehouse/warehouse.module.js';

@ApiTags('health')
@Controller('api/health')
export class HealthController {
  constructor(@InjectDataSource() private readonly source: DataSource) {}

  /** Whether the server serves. */
  @Public()
  @Get()
  async health(): Promise<{ state: string }> {
    await this.source.query('select 1');
    return { state: 'well' };
  }
}

@Global()
@Module({})
class ConfigModule {
  static of(config: Config): DynamicModule {
    return { module: ConfigModule, providers: [{ provide: Config, useValue: config }], exports: [Config] };
  }
}

@Module({})
export class AppModule {
  static of(config: Config): DynamicModule {
    return {
      module: AppModule,
      imports: [
        ConfigModule.of(config),
        TypeOrmModule.forRoot(dataSourceOptions(config)),
        PeopleModule,
        ProjectModule,
        WarehouseModule,
        RunModule,
        ConnectionModule,
        SourceModule,
        DeliveryModule,
        LookModule,
        StandinModule,
        QualityModule,
        ExampleModule,
        IncidentModule,
        MessageModule,
        WatchModule,
        ReviewModule,
        ReleaseModule,
        JobModule,
      ],
      controllers: [HealthController],
      providers: [Seeder],
    };
  }
}
