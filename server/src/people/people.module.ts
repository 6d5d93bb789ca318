import { Module } from '@nestjs/common';
import { APP_GUARD } from '@nestjs/core';
import { TypeOrmModule } from '@nestjs/typeorm';
import { Setting } from '../shared/setting.entity.js';
import { AccountController } from './account.controller.js';
import { AccountService } from './account.service.js';
import { AccessToken, Audit, Person, Session } from './people.entities.js';
import { PeopleController } from './people.controller.js';
import { PeopleService } from './people.service.js';
import { SignInGate } from './sign-in-gate.js';
import { SessionGuard } from './session.guard.js';
import { SessionService } from './session.service.js';

@Module({
  imports: [TypeOrmModule.forFeature([Person, Session, AccessToken, Audit, Setting])],
  controllers: [PeopleController, AccountController],
  providers: [
    PeopleService,
    AccountService,
    SessionService,
    SignInGate,
    { provide: APP_GUARD, useClass: SessionGuard },
  ],
  exports: [PeopleService, AccountService, SessionService, SignInGate],
})
export class PeopleModule {}
