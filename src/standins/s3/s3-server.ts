import { createReadStream } from 'node:fs';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { pipeline } from 'node:stream/promises';
import { XMLBuilder, XMLParser } from 'fast-xml-parser';
import { type HeldObject, HeldObjects } from './objects.js';
import { refusalOf, type S3Account } from './signature.js';

/** A request as the simulated service has read it. */
export interface S3Request {
  readonly method: string;
  readonly key: string;
  readonly query: URLSearchParams;
}

/** What a test or a demo asks the service to do to a request: answer with an error, or cut the connection. */
export type S3Fault = { readonly status: number; readonly code: string } | 'cut' | undefined;

const statusOf: Readonly<Record<string, number>> = {
  AccessDenied: 403,
  InvalidAccessKeyId: 403,
  SignatureDoesNotMatch: 403,
  RequestTimeTooSkewed: 403,
  NoSuchBucket: 404,
  NoSuchKey: 404,
  NoSuchUpload: 404,
  InvalidRange: 416,
  NotImplemented: 501,
};

const xml = new XMLBuilder({ format: false });
const parser = new XMLParser({ parseTagValue: false, isArray: name => name === 'Part' });

/**
 * A service that simulates those which speak the API of Amazon S3, with one bucket, on a free loopback port: objects with ranges,
 * lists, uploads in pieces. It checks signatures of version 4 and the checksums that they cover.
 */
export class StandinS3Server {
  readonly held: HeldObjects;
  readonly requests: S3Request[] = [];
  /** What happens to a request instead of its answer. */
  fault: (request: S3Request) => S3Fault = () => undefined;
  private readonly bucket: string;
  private readonly account: S3Account;
  private readonly server: Server;

  /** @param folder where contents are kept */
  constructor(bucket: string, account: S3Account, folder: string) {
    this.bucket = bucket;
    this.account = account;
    this.held = new HeldObjects(folder);
    this.server = createServer((request, response) => {
      this.answer(request, response).catch(() => response.destroy());
    });
  }

  /** Starts to listen; gives its URL. */
  async listen(): Promise<string> {
    await new Promise<void>(resolve => this.server.listen(0, '127.0.0.1', resolve));
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}`;
  }

  async close(): Promise<void> {
    this.server.closeAllConnections();
    await new Promise(resolve => this.server.close(resolve));
  }

  private async answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { method = '', url = '' } = request;
    const { pathname, searchParams: query } = new URL(url, 'http://bucket');
    const [, bucket = '', ...rest] = pathname.split('/').map(decodeURIComponent);
    const read: S3Request = { method, key: rest.join('/'), query };
    this.requests.push(read);
    const refuse = (code: string, status = statusOf[code] ?? 400) => {
      request.resume();
      response.writeHead(status, { 'content-type': 'application/xml' });
      response.end(method === 'HEAD' ? '' : xml.build({ Error: { Code: code, Message: code } }));
    };
    const fault = this.fault(read);
    if (fault === 'cut') return void request.socket.destroy();
    if (fault) return refuse(fault.code, fault.status);
    const refusal = refusalOf({ method, url, headers: request.headers }, this.account, Date.now());
    if (refusal) return refuse(refusal);
    if (bucket !== this.bucket) return refuse('NoSuchBucket');
    const code = await this.serve(read, request, response);
    if (code) refuse(code);
  }

  /** @returns the code of an error, where there is one */
  private async serve(
    { method, key, query }: S3Request,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<string | undefined> {
    const upload = query.get('uploadId');
    if (upload !== null && this.held.uploads.get(upload)?.key !== key) return 'NoSuchUpload';
    const say = (content: object) => {
      response.writeHead(200, { 'content-type': 'application/xml' }).end(xml.build(content));
      return undefined;
    };
    if (key === '' && method === 'GET')
      return query.has('uploads') ? say(this.uploadsUnder(query)) : say(this.listOf(query));
    switch (`${method} ${upload === null ? (query.has('uploads') ? 'uploads' : 'object') : 'upload'}`) {
      case 'POST uploads':
        return say({
          InitiateMultipartUploadResult: {
            Bucket: this.bucket,
            Key: key,
            UploadId: this.held.begin(key, metadataOf(request)),
          },
        });
      case 'GET upload':
        return say(this.piecesOf(upload!, query));
      case 'PUT upload':
        return this.takePiece(upload!, Number(query.get('partNumber')), request, response);
      case 'POST upload': {
        const error = await this.held.complete(upload!, piecesIn(await textOf(request)));
        return error ?? say({ CompleteMultipartUploadResult: { Bucket: this.bucket, Key: key } });
      }
      case 'DELETE upload':
        await this.held.abort(upload!);
        response.writeHead(204).end();
        return undefined;
      case 'PUT object':
        return this.take(key, request, response);
      case 'DELETE object':
        await this.held.remove(key);
        response.writeHead(204).end();
        return undefined;
      case 'GET object':
      case 'HEAD object':
        return this.give(key, request, response);
      default:
        return 'NotImplemented';
    }
  }

  private async take(
    key: string,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<string | undefined> {
    const object = await this.held.take(request, signedSum(request), metadataOf(request));
    if (!object) return 'XAmzContentSHA256Mismatch';
    await this.held.put(key, object);
    response.writeHead(200, { etag: `"${object.tag}"` }).end();
    return undefined;
  }

  private async takePiece(
    id: string,
    number: number,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<string | undefined> {
    if (!(number >= 1 && number <= 10_000)) return 'InvalidArgument';
    const piece = await this.held.take(request, signedSum(request), {});
    if (!piece) return 'XAmzContentSHA256Mismatch';
    this.held.uploads.get(id)?.pieces.set(number, piece);
    response.writeHead(200, { etag: `"${piece.tag}"` }).end();
    return undefined;
  }

  private async give(
    key: string,
    request: IncomingMessage,
    response: ServerResponse,
  ): Promise<string | undefined> {
    const object = this.held.objects.get(key);
    if (!object) return 'NoSuchKey';
    const [, first, last] = /^bytes=(\d+)-(\d*)$/.exec(request.headers.range ?? '') ?? [];
    const [start, end] = [Number(first ?? 0), Math.min(Number(last || object.bytes - 1), object.bytes - 1)];
    if (first !== undefined && start >= object.bytes) return 'InvalidRange';
    response.writeHead(first === undefined ? 200 : 206, {
      'content-length': Math.max(0, end - start + 1),
      etag: `"${object.tag}"`,
      ...(first === undefined ? {} : { 'content-range': `bytes ${start}-${end}/${object.bytes}` }),
      ...Object.fromEntries(
        Object.entries(object.metadata).map(([name, value]) => [`x-amz-meta-${name}`, value]),
      ),
    });
    if (request.method === 'HEAD' || object.bytes === 0) response.end();
    else await pipeline(createReadStream(object.file, { start, end }), response);
    return undefined;
  }

  /** A page of the keys under a prefix, by the order of their bytes. */
  private listOf(query: URLSearchParams): object {
    const [prefix, delimiter] = [query.get('prefix') ?? '', query.get('delimiter') ?? ''];
    const after = query.get('continuation-token') ?? '';
    const most = Number(query.get('max-keys') ?? 1000);
    const contents: object[] = [];
    const folders = new Set<string>();
    let last = '';
    let isTruncated = false;
    for (const [key, { bytes, tag }] of [...this.held.objects].sort(([a], [b]) => (a < b ? -1 : 1))) {
      if (!key.startsWith(prefix) || key <= after) continue;
      const at = delimiter === '' ? -1 : key.indexOf(delimiter, prefix.length);
      const folder = key.slice(0, at + delimiter.length);
      if (at >= 0 && (folders.has(folder) || after.startsWith(folder))) continue;
      isTruncated = contents.length + folders.size >= most;
      if (isTruncated) break;
      last = key;
      if (at >= 0) folders.add(folder);
      else contents.push({ Key: key, Size: bytes, ETag: `"${tag}"` });
    }
    return {
      ListBucketResult: {
        Name: this.bucket,
        IsTruncated: isTruncated,
        ...(isTruncated ? { NextContinuationToken: last } : {}),
        Contents: contents,
        CommonPrefixes: [...folders].map(one => ({ Prefix: one })),
      },
    };
  }

  private uploadsUnder(query: URLSearchParams): object {
    const prefix = query.get('prefix') ?? '';
    const Upload = [...this.held.uploads]
      .filter(([, { key }]) => key.startsWith(prefix))
      .map(([UploadId, { key }]) => ({ Key: key, UploadId }));
    return { ListMultipartUploadsResult: { Bucket: this.bucket, IsTruncated: false, Upload } };
  }

  private piecesOf(id: string, query: URLSearchParams): object {
    const after = Number(query.get('part-number-marker') ?? 0);
    const pieces = [...this.held.uploads.get(id)!.pieces]
      .sort(([a], [b]) => a - b)
      .filter(([number]) => number > after);
    const page = pieces.slice(0, 1000);
    const isTruncated = page.length < pieces.length;
    return {
      ListPartsResult: {
        UploadId: id,
        IsTruncated: isTruncated,
        ...(isTruncated ? { NextPartNumberMarker: page.at(-1)![0] } : {}),
        Part: page.map(([PartNumber, { bytes, tag }]: [number, HeldObject]) => ({
          PartNumber,
          Size: bytes,
          ETag: `"${tag}"`,
        })),
      },
    };
  }
}

function signedSum(request: IncomingMessage): string {
  return String(request.headers['x-amz-content-sha256']);
}

function metadataOf({ headers }: IncomingMessage): Record<string, string> {
  const own = Object.entries(headers).filter(([name]) => name.startsWith('x-amz-meta-'));
  return Object.fromEntries(own.map(([name, value]) => [name.slice('x-amz-meta-'.length), String(value)]));
}

async function textOf(request: IncomingMessage): Promise<string> {
  const chunks: Buffer[] = [];
  for await (const chunk of request) chunks.push(chunk as Buffer);
  return Buffer.concat(chunks).toString();
}

function piecesIn(text: string): { number: number; tag: string }[] {
  const read = parser.parse(text) as {
    CompleteMultipartUpload?: { Part?: { PartNumber: string; ETag: string }[] };
  };
  return (read.CompleteMultipartUpload?.Part ?? []).map(({ PartNumber, ETag }) => ({
    number: Number(PartNumber),
    tag: String(ETag).replace(/&quot;|"/g, ''),
  }));
}
