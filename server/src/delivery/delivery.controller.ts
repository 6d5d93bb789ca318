import { BadRequestException, Controller, Get, HttpCode, Param, Post, Query, Req, Res } from '@nestjs/common';
import { ApiOkResponse, ApiProperty, ApiTags } from '@nestjs/swagger';
import type { DeliveryEntry, DeliveryList, Rejects } from '@ouvrage/api/delivery';
import { IsIn, IsString, Matches } from 'class-validator';
import type { Request, Response } from 'express';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { CONTENT_TYPES, written } from '../look/export-formats.js';
import { Me, Needs } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { fileAnswer, type Sent } from '../shared/answers.js';
import { Optional, OptionalText, OptionalWhole, Whole } from '../shared/fields.js';
import { leaving } from '../shared/leaving.js';
import { Problem } from '../shared/problem.js';
import { DeliveryListService } from './delivery-list.service.js';
import { DeliveryWatcher } from './delivery-watcher.js';
import { type Delivery, DELIVERY_STATES, type DeliveryState } from './delivery.entities.js';
import { DropFolder } from './drop-folder.js';

class FileQuery {
  /** A plain file name. */
  @IsString()
  @Matches(/^(?!\.)[\w .()\-]{1,200}$/, {
    message: 'name must be a plain file name, such as berth_rates_2026-03-01.csv',
  })
  @ApiProperty({ type: String, example: 'berth_rates_2026-03-01.csv' })
  name: string;
}

class ListQuery {
  /** Part of a file's name, a table's name or a reason. */
  @OptionalText(200)
  search?: string;

  @Optional()
  @IsIn(DELIVERY_STATES)
  @ApiProperty({ enum: DELIVERY_STATES, required: false })
  state?: DeliveryState;

  /** The last delivery of the page before. */
  @OptionalWhole(1, 2_147_483_647)
  before?: number;
}

class IdParam {
  @Whole(1, 2_147_483_647)
  id: number;
}

const deliveryOut = ({
  id,
  file,
  table,
  state,
  bytes,
  rows,
  rejects,
  reason,
  at,
  milliseconds,
}: Delivery): Sent<DeliveryEntry> => ({
  id,
  file,
  table,
  state,
  bytes,
  rows,
  rejects,
  reason,
  at,
  milliseconds,
});

/** Files that are delivered into the drop folder. */
@ApiTags('deliveries')
@Controller('api/deliveries')
export class DeliveryController {
  constructor(
    private readonly folder: DropFolder,
    private readonly watcher: DeliveryWatcher,
    private readonly lists: DeliveryListService,
    private readonly people: PeopleService,
  ) {}

  /** All files that ever came, newest first, a page at a time. */
  @Get()
  async list(@Query() { search, state, before }: ListQuery): Promise<Sent<DeliveryList>> {
    const { files, more } = await this.lists.search({ text: search, state, before });
    return { folder: this.folder.folder, files: files.map(deliveryOut), more };
  }

  /** Rows of a file that were set aside: line, column, value and reason. */
  @Get(':id/rejects')
  async rejects(@Me() me: Person, @Param() { id }: IdParam, @Req() request: Request): Promise<Sent<Rejects>> {
    return this.lists.rejects(await this.lists.one(id), me, leaving(request));
  }

  /** All of them as a CSV file. */
  @Get(':id/rejects.csv')
  @ApiOkResponse(fileAnswer([CONTENT_TYPES.csv]))
  async rejectsFile(
    @Me() me: Person,
    @Param() { id }: IdParam,
    @Req() request: Request,
    @Res() response: Response,
  ): Promise<void> {
    const delivery = await this.lists.one(id);
    const columns = ['line', 'column', 'value', 'reason'].map((name) => ({ name, type: 'text' }));
    await this.people.audit(me, 'rows exported', delivery.file, { rows: 'set aside', format: 'csv' });
    await this.lists.eachReject(delivery, { me, signal: leaving(request) }, async (batches) => {
      response.setHeader('Content-Type', CONTENT_TYPES.csv);
      response.setHeader(
        'Content-Disposition',
        `attachment; filename="${delivery.file.replace(/[^\w.-]/g, '_')}.rejects.csv"`,
      );
      await pipeline(Readable.from(written('csv', columns, batches)), response);
    });
  }

  /** Takes a file again that failed or of which rows were set aside: what was wrong may have been put right. */
  @Needs('releaser')
  @Post(':id/retry')
  @HttpCode(200)
  async retry(@Me() me: Person, @Param() { id }: IdParam): Promise<Sent<DeliveryList>> {
    const delivery = await this.lists.one(id);
    await this.folder.putBack(delivery);
    await this.people.audit(me, 'file delivered again', delivery.file);
    return this.look(me);
  }

  /** Puts a file into the drop folder; the request's body is the file. */
  @Needs('releaser')
  @Post('file')
  @HttpCode(204)
  async upload(@Me() me: Person, @Query() { name }: FileQuery, @Req() request: Request): Promise<void> {
    if (request.headers['content-type'] !== 'application/octet-stream')
      throw new BadRequestException('send the file as application/octet-stream');
    await this.folder.receive(name, request);
    await this.people.audit(me, 'file delivered', name);
  }

  /** Takes what is there now, without waiting for the next look. */
  @Needs('releaser')
  @Post('look')
  @HttpCode(200)
  async look(@Me() me: Person): Promise<Sent<DeliveryList>> {
    try {
      await this.watcher.look(0);
    } catch (error) {
      throw new Problem(
        500,
        'drop-folder',
        'The drop folder cannot be read',
        error instanceof Error ? error.message : String(error),
      );
    }
    await this.people.audit(me, 'drop folder looked into', this.folder.folder);
    return this.list({});
  }
}
