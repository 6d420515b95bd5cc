/** A place in a bucket. */
export interface S3Place {
  readonly bucket: string;
  /** Without slashes at either end; empty for the whole bucket. */
  readonly prefix: string;
}

/** What the services that speak S3 take as the name of a bucket. */
const bucketName = /^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$/;

/** Reads `s3://bucket/prefix`; undefined for anything else. */
export function readS3Place(place: string): S3Place | undefined {
  const [, bucket, path = ''] = /^s3:\/\/([^/]+)((?:\/.*)?)$/s.exec(place) ?? [];
  const prefix = path.replace(/^\/|\/$/g, '');
  const isPlain = prefix.split('/').every((part, i) => (part !== '' || i === 0) && !/^\.{1,2}$/.test(part));
  if (bucket === undefined || !bucketName.test(bucket) || !isPlain || /[\0-\x1f\x7f]/.test(prefix))
    return undefined;
  return { bucket, prefix };
}

/** Whether a place is in a bucket, as far as it is meant to be one. */
export function isS3(place: string): boolean {
  return place.startsWith('s3://');
}
