import {
  applyDecorators,
  BadRequestException,
  Injectable,
  type ArgumentMetadata,
  type PipeTransform,
} from '@nestjs/common';
import { ApiProperty, ApiPropertyOptional } from '@nestjs/swagger';
import { LONGEST_PATH, pathProblem } from '@ouvrage/core/index';
import { Transform, Type } from 'class-transformer';
import {
  ArrayMaxSize,
  IsArray,
  IsBoolean,
  IsInt,
  IsObject,
  IsOptional,
  IsString,
  Length,
  Max,
  Min,
  ValidateBy,
  ValidateIf,
  ValidateNested,
} from 'class-validator';
import { notFound } from './problem.js';

/** Decorators of DTO fields: validation and OpenAPI said once. */

export function Text(least: number, most: number, example?: string): PropertyDecorator {
  return applyDecorators(
    IsString(),
    Length(least, most),
    ApiProperty({ type: String, minLength: least, maxLength: most, ...(example ? { example } : {}) }),
  );
}

/** A field that may be left out; a null is a value, and has to be one that the field allows. */
export function Optional(): PropertyDecorator {
  return ValidateIf((_, value) => value !== undefined);
}

export function OptionalText(most: number): PropertyDecorator {
  return applyDecorators(
    Optional(),
    IsString(),
    Length(0, most),
    ApiProperty({ type: String, maxLength: most, required: false }),
  );
}

/** A text, or null, which has a meaning of its own there; null, too, where it is left out. */
export function TextOrNull(most: number): PropertyDecorator {
  return applyDecorators(
    IsOptional(),
    IsString(),
    Length(0, most),
    ApiProperty({ type: String, maxLength: most, nullable: true, required: false }),
  );
}

/** A path of the project: folders and a .sql, .csv or .md file, nothing that leaves the project. */
export function ProjectPath(): PropertyDecorator {
  return applyDecorators(
    ValidateBy({
      name: 'projectPath',
      validator: {
        validate: (value: unknown) => typeof value === 'string' && pathProblem(value) === undefined,
        defaultMessage: (given) =>
          typeof given?.value === 'string'
            ? (pathProblem(given.value) ?? '')
            : `${given?.property ?? 'path'} must be a text`,
      },
    }),
    ApiProperty({ type: String, maxLength: LONGEST_PATH, example: 'staging/berth.sql' }),
  );
}

/** Numbers come as texts in addresses; whatever else is no number stays what it is, and is refused. */
const AsNumber = (): PropertyDecorator =>
  Transform(({ value }: { value: unknown }) =>
    typeof value === 'string' && value.trim() !== '' ? Number(value) : value,
  );

export function Whole(least: number, most: number): PropertyDecorator {
  return applyDecorators(
    AsNumber(),
    IsInt(),
    Min(least),
    Max(most),
    ApiProperty({ type: Number, minimum: least, maximum: most }),
  );
}

export function OptionalWhole(least: number, most: number): PropertyDecorator {
  return applyDecorators(
    Optional(),
    AsNumber(),
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

/** One object of a class, which may be left out. A list is none: what validates nested objects would take an empty one. */
export function OptionalOf(type: new () => object, { orNull = false } = {}): PropertyDecorator {
  return applyDecorators(
    orNull ? IsOptional() : Optional(),
    IsObject(),
    ValidateNested(),
    Type(() => type),
    ApiProperty({ type, required: false, ...(orNull ? { nullable: true } : {}) }),
  );
}

/** A text or a null, among other things in a list. */
export function IsTextOrNull(options: { readonly each: true }): PropertyDecorator {
  return ValidateBy(
    {
      name: 'textOrNull',
      validator: {
        validate: (value: unknown) => value === null || typeof value === 'string',
        defaultMessage: () => 'each value must be a text or null',
      },
    },
    options,
  );
}

/** Texts by name, such as the values of parameters; may be left out. @param orNull whether a null may stand for a text */
export function TextsByName({
  most,
  longest,
  orNull = false,
}: {
  most: number;
  longest: number;
  orNull?: boolean;
}): PropertyDecorator {
  const isText = (v: unknown) =>
    (typeof v === 'string' && v.length <= longest && !v.includes('\0')) || (orNull && v === null);
  return applyDecorators(
    Optional(),
    ValidateBy({
      name: 'textsByName',
      validator: {
        validate: (value: unknown) =>
          typeof value === 'object' &&
          value !== null &&
          !Array.isArray(value) &&
          Object.keys(value).length <= most &&
          Object.values(value).every(isText),
        defaultMessage: (given) =>
          `${given?.property ?? 'value'} must be an object of at most ${most} texts${orNull ? ' or nulls' : ''}, each of at most ${longest} characters and without NUL`,
      },
    }),
    ApiPropertyOptional({ type: 'object', additionalProperties: { type: 'string', nullable: orNull } }),
  );
}

/** A row's number in an address. @throws 400 for what is none, 404 for what no row can have */
@Injectable()
export class RowId implements PipeTransform<string, number> {
  transform(value: string, { data }: ArgumentMetadata): number {
    if (!/^\d{1,18}$/.test(value)) throw new BadRequestException([`${data ?? 'id'} must be a whole number`]);
    const id = Number(value);
    if (id > 2_147_483_647) throw notFound(`${data ?? 'id'} ${value}`);
    return id;
  }
}
