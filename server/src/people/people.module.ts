import { Module } from '@nestjs/common';
import { APP_GUARD } from '@nestjs/core';
import { TypeOrmModule } from '@nestjs/typeorm';
import { AccessToken, Audit, Person, Session } from './people.entities.js';
import { PeopleController } from './people.controller.js';
import { PeopleService } from './people.service.js';
import { SignInGate } from './sign-in-gate.js';
import { SessionGuard } from './session.guard.js';

@Module({
  imports: [TypeOrmModule.forFeature([Person, Session, AccessToken, Audit])],
  controllers: [PeopleController],
  providers: [PeopleService, SignInGate, { provide: APP_GUARD, useClass: SessionGuard }],
  exports: [PeopleService, SignInGate],
})
export class PeopleModule {}
