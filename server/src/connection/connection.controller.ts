import type { ConnectionEntry, ConnectionTest, NewConnection } from '@ouvrage/api/connection';
import type { Sent } from '../shared/answers.js';
import { Body, Controller, Delete, Get, HttpCode, Param, ParseUUIDPipe, Post, Put } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { IsIn, IsOptional, IsUUID } from 'class-validator';
import { Me, Needs, NotForTokens } from '../people/access.js';
import type { Person } from '../people/people.entities.js';
import { PeopleService } from '../people/people.service.js';
import { Optional, Text, Whole } from '../shared/fields.js';
import { ConnectionService } from './connection.service.js';
import type { BoundEnvironment, TlsMode } from '@ouvrage/api/connection';
import { BOUND_ENVIRONMENTS, TLS_MODES } from './connection.entities.js';

class ConnectionBody {
  @Text(1, 60, 'port_ops')
  name: string;

  @Text(1, 253, '127.0.0.1')
  host: string;

  @Whole(1, 65535)
  port: number;

  @Text(1, 63)
  database: string;

  @Text(1, 63)
  user: string;

  /** Left out, the known one stays. */
  @Optional()
  @Text(1, 500)
  password?: string;

  @IsIn(TLS_MODES)
  @ApiProperty({ enum: TLS_MODES })
  tls: TlsMode;
}

class TestBody extends ConnectionBody {
  /** A known connection, whose password is used if none is typed. */
  @Optional()
  @IsUUID()
  @ApiProperty({ type: String, required: false })
  id?: string;
}

class BindingBody {
  @Text(1, 63)
  server: string;

  @IsIn(BOUND_ENVIRONMENTS)
  @ApiProperty({ enum: BOUND_ENVIRONMENTS })
  environment: BoundEnvironment;

  /** Null takes the binding away. */
  @IsOptional()
  @IsUUID()
  @ApiProperty({ type: String, nullable: true })
  connection: string | null;
}

/** Databases of others. Their secrets come in and never go out. */
@ApiTags('connections')
@NotForTokens()
@Controller('api/connections')
export class ConnectionController {
  constructor(
    private readonly connections: ConnectionService,
    private readonly people: PeopleService,
  ) {}

  /** Connections and the servers that are bound to them; no passwords. */
  @Get()
  list(): Promise<Sent<readonly ConnectionEntry[]>> {
    return this.connections.list();
  }

  /** Saves a connection. */
  @Needs('administrator')
  @Post()
  async create(@Me() me: Person, @Body() body: ConnectionBody): Promise<Sent<NewConnection>> {
    const id = await this.connections.create(body);
    await this.people.audit(me, 'connection made', body.name, { host: body.host, database: body.database });
    return { id };
  }

  /** Tries a connection and says which part of it does not work. */
  @Needs('administrator')
  @Post('test')
  @HttpCode(200)
  test(@Body() { id, ...body }: TestBody): Promise<Sent<ConnectionTest>> {
    return this.connections.test(body, id);
  }

  /** Binds a server of the project to a connection, or unbinds it. */
  @Needs('administrator')
  @Put('binding')
  @HttpCode(204)
  async bind(@Me() me: Person, @Body() { server, environment, connection }: BindingBody): Promise<void> {
    await this.connections.bind(server, environment, connection ?? null);
    await this.people.audit(me, connection ? 'server bound' : 'binding removed', server, { environment });
  }

  /** Changes a connection. */
  @Needs('administrator')
  @Put(':id')
  @HttpCode(204)
  async update(@Me() me: Person, @Param('id', ParseUUIDPipe) id: string, @Body() body: ConnectionBody): Promise<void> {
    await this.connections.update(id, body);
    await this.people.audit(me, 'connection changed', body.name, { host: body.host, database: body.database });
  }

  /** Deletes a connection. */
  @Needs('administrator')
  @Delete(':id')
  @HttpCode(204)
  async remove(@Me() me: Person, @Param('id', ParseUUIDPipe) id: string): Promise<void> {
    const { name } = await this.connections.remove(id);
    await this.people.audit(me, 'connection deleted', name);
  }
}
