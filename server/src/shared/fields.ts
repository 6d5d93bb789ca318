import { applyDecorators } from '@nestjs/common';
import { ApiProperty } from '@nestjs/swagger';
import { Type } from 'class-transformer';
import { ArrayMaxSize, IsArray, IsBoolean, IsInt, IsOptional, IsString, Length, Matches, Max, Min } from 'class-validator';

/** Decorators of DTO fields: validation and OpenAPI said once. */

export function Text(least: number, most: number, example?: string): PropertyDecorator {
  return applyDecorators(IsString(), Length(least, most), ApiProperty({ type: String, minLength: least, maxLength: most, ...(example ? { example } : {}) }));
}

export function OptionalText(most: number): PropertyDecorator {
  return applyDecorators(IsOptional(), IsString(), Length(0, most), ApiProperty({ type: String, maxLength: most, required: false, nullable: true }));
}

/** A path of the project: folders and a .sql, .csv or .md file, nothing that leaves the project. */
export function ProjectPath(): PropertyDecorator {
  return applyDecorators(
    IsString(),
    Length(1, 300),
    Matches(/^(?!.*(?:^|\/)\.)[\w .\-/]+\.(sql|csv|md)$/, { message: 'path must be a .sql, .csv or .md file of the project, such as staging/berth.sql' }),
    ApiProperty({ type: String, example: 'staging/berth.sql' }),
  );
}

export function Whole(least: number, most: number): PropertyDecorator {
  return applyDecorators(
    Type(() => Number),
    IsInt(),
    Min(least),
    Max(most),
    ApiProperty({ type: Number, minimum: least, maximum: most }),
  );
}

export function OptionalWhole(least: number, most: number): PropertyDecorator {
  return applyDecorators(
    IsOptional(),
    Type(() => Number),
    IsInt(),
    Min(least),
    Max(most),
    ApiProperty({ type: Number, minimum: least, maximum: most, required: false }),
  );
}

export function Flag(): PropertyDecorator {
  return applyDecorators(IsBoolean(), ApiProperty({ type: Boolean }));
}

export function Names(most: number): PropertyDecorator {
  return applyDecorators(
    IsArray(),
    ArrayMaxSize(most),
    IsString({ each: true }),
    Length(1, 200, { each: true }),
    ApiProperty({ type: [String], maxItems: most }),
  );
}
