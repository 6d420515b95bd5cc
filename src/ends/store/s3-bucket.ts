import { S3Client, type S3ClientConfig } from '@aws-sdk/client-s3';
import type { S3Place } from '../../core/store/s3-place.js';
import { s3Error } from './s3-errors.js';

/** How a service is reached, beyond the bucket's name. */
export interface S3Wish {
  /** URL of the service, where it is another provider's. */
  readonly endpoint?: string | undefined;
  readonly region?: string | undefined;
  /** Whether the bucket is a part of the path rather than of the host; left out, it is where an endpoint is given. */
  readonly 'path-style'?: boolean | undefined;
  /** Left out, they are those of the environment or of the usual profile files. */
  readonly credentials?: S3Credentials | undefined;
}

export interface S3Credentials {
  readonly accessKeyId: string;
  readonly secretAccessKey: string;
  readonly sessionToken?: string | undefined;
}

/** How often a request is tried that the service could not answer. */
const mostTries = 6;

/** A bucket as the client package reaches it; its errors say what was being done, and what to try. */
export class S3Bucket {
  readonly name: string;
  private readonly client: S3Client;

  constructor({ bucket }: S3Place, wish: S3Wish) {
    // The package warns on standard error of versions of Node.js that it will not know one day.
    process.env.AWS_SDK_JS_NODE_VERSION_SUPPORT_WARNING_DISABLED ??= 'true';
    const { credentials } = wish;
    const { AWS_ENDPOINT_URL, AWS_REGION } = process.env;
    const endpoint = wish.endpoint ?? AWS_ENDPOINT_URL;
    // Services of other providers take any.
    const region = wish.region ?? AWS_REGION ?? (endpoint === undefined ? undefined : 'us-east-1');
    const config: S3ClientConfig = {
      maxAttempts: mostTries,
      // A service of another provider seldom has a name in the DNS for every bucket.
      forcePathStyle: wish['path-style'] ?? endpoint !== undefined,
      // Every request is signed with the SHA-256 of its content; not every service knows further checksums.
      requestChecksumCalculation: 'WHEN_REQUIRED',
      responseChecksumValidation: 'WHEN_REQUIRED',
      ...(endpoint === undefined ? {} : { endpoint }),
      ...(region === undefined ? {} : { region }),
      ...(credentials === undefined ? {} : { credentials: { ...credentials } }),
    };
    this.name = bucket;
    this.client = new S3Client(config);
  }

  /** @param doing what, for messages @param request makes it, with this bucket's client */
  async ask<Answer>(
    doing: string,
    key: string,
    signal: AbortSignal,
    request: (client: S3Client, options: { abortSignal: AbortSignal }) => Promise<Answer>,
  ): Promise<Answer> {
    try {
      return await request(this.client, { abortSignal: signal });
    } catch (error) {
      signal.throwIfAborted();
      throw s3Error(error, `${doing} s3://${this.name}/${key}`);
    }
  }

  close(): void {
    this.client.destroy();
  }
}
