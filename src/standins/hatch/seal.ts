import { createCipheriv, createDecipheriv, randomBytes } from 'node:crypto';

const nonceBytes = 12;
const tagBytes = 16;

/** AES-256-GCM as a hatch has it: nonce, tag and text. */
export function sealedBody(key: Buffer, text: Buffer): Buffer {
  const nonce = randomBytes(nonceBytes);
  const cipher = createCipheriv('aes-256-gcm', key, nonce);
  const body = Buffer.concat([cipher.update(text), cipher.final()]);
  return Buffer.concat([nonce, cipher.getAuthTag(), body]);
}

export function openedBody(key: Buffer, body: Buffer): Buffer {
  const decipher = createDecipheriv('aes-256-gcm', key, body.subarray(0, nonceBytes));
  decipher.setAuthTag(body.subarray(nonceBytes, nonceBytes + tagBytes));
  return Buffer.concat([decipher.update(body.subarray(nonceBytes + tagBytes)), decipher.final()]);
}
