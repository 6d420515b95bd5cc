import { Decrypter, Encrypter, generateIdentity, identityToRecipient } from 'age-encryption';
import { DamageError, PorterError, UsageError } from '../../core/errors.js';

/** How an encrypted file begins (the age v1 format, https://age-encryption.org/v1). */
const beginning = 'age-encryption.org/v1\n';

/** Encrypts a stream with a passphrase, in the age v1 format. */
export async function* sealed(content: AsyncIterable<Buffer>, passphrase: string): AsyncIterable<Buffer> {
  const encrypter = new Encrypter();
  encrypter.setPassphrase(passphrase);
  yield* buffersOf(await encrypter.encrypt(streamOf(content)));
}

/**
 * The content of a stream that may be encrypted.
 * @param passphrase is asked for only where it is
 * @throws UsageError for a wrong passphrase, DamageError where it was changed or cut short
 */
export async function* unsealed(
  content: AsyncIterable<Buffer>,
  passphrase: () => Promise<string>,
  file: string,
): AsyncIterable<Buffer> {
  const chunks = content[Symbol.asyncIterator]();
  const first = await chunks.next();
  const rest = (async function* () {
    if (first.done) return;
    yield first.value;
    yield* { [Symbol.asyncIterator]: () => chunks };
  })();
  if (first.done || !first.value.subarray(0, beginning.length).equals(Buffer.from(beginning))) {
    yield* rest;
    return;
  }
  const decrypter = new Decrypter();
  decrypter.addPassphrase(await passphrase());
  let plain: ReadableStream<Uint8Array>;
  try {
    plain = await decrypter.decrypt(streamOf(rest));
  } catch (cause) {
    // Errors of reading the file keep their own message.
    if (cause instanceof PorterError) throw cause;
    throw new UsageError(
      {
        doing: `Opening ${file}`,
        cause: 'the passphrase is not the one it was encrypted with',
        remedy: 'Try again; capitals and spaces count',
      },
      { cause },
    );
  }
  try {
    yield* buffersOf(plain);
  } catch (cause) {
    if (cause instanceof PorterError) throw cause;
    throw changed(file, cause);
  }
}

function changed(file: string, cause: unknown): DamageError {
  return new DamageError(
    {
      doing: `Opening ${file}`,
      cause: 'the encrypted data was changed or truncated',
      remedy: 'Bring it over once more; a part may be missing',
    },
    { cause },
  );
}

/** A key of its own for what is sealed piece by piece: a passphrase takes a second for each. */
export interface SealingKey {
  /** Opens; a secret. */
  readonly identity: string;
  /** Seals; anybody may know it. */
  readonly recipient: string;
}

export async function newSealingKey(): Promise<SealingKey> {
  const identity = await generateIdentity();
  return { identity, recipient: await identityToRecipient(identity) };
}

/** The whole key of an identity. */
export async function sealingKeyOf(identity: string): Promise<SealingKey> {
  return { identity, recipient: await identityToRecipient(identity) };
}

/** Encrypts a stream for a key, in the age v1 format. */
export async function* sealedFor(content: AsyncIterable<Buffer>, recipient: string): AsyncIterable<Buffer> {
  const encrypter = new Encrypter();
  encrypter.addRecipient(recipient);
  yield* buffersOf(await encrypter.encrypt(streamOf(content)));
}

/** Decrypts what was sealed for a key. @throws DamageError where it was changed, cut short, or sealed for another key */
export async function* unsealedWith(
  content: AsyncIterable<Buffer>,
  identity: string,
  file: string,
): AsyncIterable<Buffer> {
  const decrypter = new Decrypter();
  decrypter.addIdentity(identity);
  try {
    yield* buffersOf(await decrypter.decrypt(streamOf(content)));
  } catch (cause) {
    if (cause instanceof PorterError) throw cause;
    throw changed(file, cause);
  }
}

function streamOf(content: AsyncIterable<Buffer>): ReadableStream<Uint8Array> {
  const chunks = content[Symbol.asyncIterator]();
  return new ReadableStream<Uint8Array>({
    async pull(controller) {
      const { value, done } = await chunks.next();
      if (done) controller.close();
      else controller.enqueue(new Uint8Array(value));
    },
    async cancel() {
      await chunks.return?.();
    },
  });
}

async function* buffersOf(stream: ReadableStream<Uint8Array>): AsyncIterable<Buffer> {
  const reader = stream.getReader();
  try {
    for (;;) {
      const { value, done } = await reader.read();
      if (done) return;
      yield Buffer.from(value.buffer, value.byteOffset, value.byteLength);
    }
  } finally {
    reader.releaseLock();
  }
}
