import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex, utf8ToBytes } from '@noble/hashes/utils.js';

/** What tells texts apart: 32 hexadecimal digits. */
export const digest = (text: string): string => bytesToHex(sha256(utf8ToBytes(text))).slice(0, 32);
