import { BadRequestException, Controller, Get, HttpCode, Post, Query, Req } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { IsString, Matches } from 'class-validator';
import type { Request } from 'express';
import { Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { Problem } from '../shared/problem.js';
import { DeliveryService } from './delivery.service.js';

class FileQuery {
  /** A plain file name. */
  @IsString()
  @Matches(/^(?!\.)[\w .()\-]{1,200}$/, { message: 'name must be a plain file name, such as berth_rates_2026-03-01.csv' })
  @ApiProperty({ type: String, example: 'berth_rates_2026-03-01.csv' })
  name: string;
}

/** Files that are delivered into the drop folder. */
@ApiTags('deliveries')
@Controller('api/deliveries')
export class DeliveryController {
  constructor(
    private readonly deliveries: DeliveryService,
    private readonly people: PeopleService,
  ) {}

  @Get()
  async list() {
    return { folder: this.deliveries.folder, files: await this.deliveries.recent() };
  }

  /** Puts a file into the drop folder; the request's body is the file. */
  @Needs('releaser')
  @Post('file')
  @HttpCode(204)
  async upload(@Me() me: Person, @Query() { name }: FileQuery, @Req() request: Request) {
    if (request.headers['content-type'] !== 'application/octet-stream') throw new BadRequestException('send the file as application/octet-stream');
    await this.deliveries.receive(name, request);
    await this.people.audit(me, 'file delivered', name);
  }

  /** Takes what is there now, without waiting for the next look. */
  @Needs('releaser')
  @Post('look')
  @HttpCode(200)
  async look(@Me() me: Person) {
    try {
      await this.deliveries.look(0);
    } catch (error) {
      throw new Problem(500, 'drop-folder', 'The drop folder cannot be read', error instanceof Error ? error.message : String(error));
    }
    await this.people.audit(me, 'drop folder looked into', this.deliveries.folder);
    return this.list();
  }
}
