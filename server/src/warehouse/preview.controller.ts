import { Body, Controller, HttpCode, Param, Post, Req } from '@nestjs/common';
import { ApiProperty, ApiTags } from '@nestjs/swagger';
import { IsOptional, IsString, Length } from 'class-validator';
import type { Request } from 'express';
import { ProjectPath, Whole } from '../shared/fields.js';
import { leaving } from './leaving.js';
import { PreviewService } from './preview.service.js';

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

@ApiTags('preview')
@Controller('api/workspaces/:slug')
export class PreviewController {
  constructor(private readonly previews: PreviewService) {}

  /** Rows of a query that is being written. */
  @Post('preview')
  @HttpCode(200)
  preview(@Param('slug') slug: string, @Body() { path, text, limit }: TextRowsBody, @Req() request: Request) {
    return this.previews.text(slug, path, text ?? '', limit, leaving(request));
  }
}
