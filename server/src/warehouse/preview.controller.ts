import { Body, Controller, HttpCode, Param, Post, Req } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { IsOptional, IsString, Length } from 'class-validator';
import type { Request } from 'express';
import { ProjectPath, Text, Whole } from '../shared/fields.js';
import { PreviewService } from './preview.service.js';

class TableRowsBody {
  @Text(3, 200, 'core.dim_vessel')
  table: string;

  @Whole(1, 1000)
  limit: number;
}

class TextRowsBody {
  @ProjectPath()
  path: string;

  /** The file as it is being written. */
  @IsOptional()
  @IsString()
  @Length(0, 2_000_000)
  @ApiProperty({ type: String })
  text: string;

  @Whole(1, 1000)
  limit: number;
}

/** Aborted when the person's connection closes before the answer is sent. */
function leaving(request: Request): AbortSignal {
  const controller = new AbortController();
  request.res?.once('close', () => controller.abort());
  return controller.signal;
}

@ApiTags('preview')
@Controller('api/workspaces/:slug')
export class PreviewController {
  constructor(private readonly previews: PreviewService) {}

  /** Rows of a table. */
  @Post('rows')
  @HttpCode(200)
  rows(@Param('slug') slug: string, @Body() { table, limit }: TableRowsBody, @Req() request: Request) {
    return this.previews.table(slug, table, limit, leaving(request));
  }

  /** Rows of a query that is being written. */
  @Post('preview')
  @HttpCode(200)
  preview(@Param('slug') slug: string, @Body() { path, text, limit }: TextRowsBody, @Req() request: Request) {
    return this.previews.text(slug, path, text ?? '', limit, leaving(request));
  }
}
