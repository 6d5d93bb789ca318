import { Module } from '@nestjs/common';
import { TypeOrmModule } from '@nestjs/typeorm';
import { PeopleModule } from '../people/people.module.js';
import { ConnectionController } from './connection.controller.js';
import { Binding, Connection } from './connection.entities.js';
import { ConnectionService } from './connection.service.js';

@Module({
  imports: [PeopleModule, TypeOrmModule.forFeature([Connection, Binding])],
  controllers: [ConnectionController],
  providers: [ConnectionService],
  exports: [ConnectionService],
})
export class ConnectionModule {}
