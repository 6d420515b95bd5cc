import { EndError, type ErrorDetails, PartWayError, PorterError, UsageError } from '../../core/errors.js';
import { toPorterError } from '../system-errors.js';

/** What the client package throws, as far as it is looked at. */
interface ServiceError {
  readonly name?: string;
  readonly message?: string;
  readonly code?: string;
  readonly $metadata?: { readonly httpStatusCode?: number };
}

type Known = Omit<ErrorDetails, 'doing'> & {
  readonly as: new (details: ErrorDetails, options?: ErrorOptions) => PorterError;
};

const credentials: Known = {
  cause: 'the service refuses the credentials, or does not let them do this',
  remedy: 'Check AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY, and what they may do with this bucket',
  kind: 'credentials',
  as: EndError,
};

const byName: Readonly<Record<string, Known>> = {
  CredentialsProviderError: {
    cause: 'no credentials are set',
    remedy:
      'Put AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY into .env beside the sheet, or use a profile file',
    as: UsageError,
  },
  AccessDenied: credentials,
  InvalidAccessKeyId: credentials,
  SignatureDoesNotMatch: credentials,
  Forbidden: credentials,
  NoSuchBucket: {
    cause: 'there is no such bucket',
    remedy: 'Make it in the panel of the service, or correct crate.store',
    kind: 'refused',
    as: EndError,
  },
  NoSuchKey: {
    cause: 'it is not there',
    remedy: 'Look at "able-porter crates"',
    kind: 'not found',
    as: EndError,
  },
  NotFound: {
    cause: 'it is not there',
    remedy: 'Look at "able-porter crates"',
    kind: 'not found',
    as: EndError,
  },
  NoSuchUpload: {
    cause: 'the service has forgotten the beginning of this upload',
    remedy: 'Run the command again',
    kind: 'not found',
    as: PartWayError,
  },
};

/** Turns what the client package throws into an error that a person can act on. */
export function s3Error(error: unknown, doing: string): unknown {
  if (error instanceof PorterError) return error;
  const { name = '', message = '', code, $metadata } = error as ServiceError;
  const known = [name, code ?? ''].flatMap(one => (Object.hasOwn(byName, one) ? [byName[one]!] : []))[0];
  if (known) {
    const { as: As, ...details } = known;
    return new As({ doing, ...details }, { cause: error });
  }
  const status = $metadata?.httpStatusCode;
  if (status === 403) return new EndError({ doing, ...credentials }, { cause: error });
  if (code === 'ECONNREFUSED' || code === 'ENOTFOUND')
    return new EndError({ doing, ...noService(code) }, { cause: error });
  if (status === undefined && code !== undefined) return toPorterError(error, doing);
  if (status === undefined && /region/i.test(message))
    return new UsageError(
      { doing, cause: 'no region is set', remedy: 'Give crate.store.region, or AWS_REGION' },
      { cause: error },
    );
  return new PartWayError(
    {
      doing,
      cause:
        status === undefined || status < 400
          ? 'the connection was lost'
          : `the service answers ${status} (${name || message})`,
      remedy: 'Run the command again in a while; it resumes where it was',
      kind: status === undefined || status < 500 ? 'connection lost' : 'refused',
    },
    { cause: error },
  );
}

function noService(code: string): Omit<ErrorDetails, 'doing'> {
  return {
    cause: code === 'ENOTFOUND' ? 'there is no such host' : 'nobody listens there',
    remedy: 'Check crate.store.endpoint, or AWS_ENDPOINT_URL',
  };
}
