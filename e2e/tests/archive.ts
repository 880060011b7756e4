import { crc32 } from "node:zlib";

/** A zip archive of stored members, as APPNOTE.TXT of the format lays it out. */
export function archive(members: Record<string, Buffer>): Buffer {
  const bodies: Buffer[] = [];
  const entries: Buffer[] = [];
  let at = 0;
  for (const [name, content] of Object.entries(members)) {
    const fields = Buffer.alloc(26);
    fields.writeUInt16LE(20, 0);
    fields.writeUInt32LE(crc32(content), 10);
    fields.writeUInt32LE(content.length, 14);
    fields.writeUInt32LE(content.length, 18);
    fields.writeUInt16LE(name.length, 22);
    const body = Buffer.concat([Buffer.from("PK\x03\x04"), fields, Buffer.from(name), content]);
    const tail = Buffer.alloc(14);
    tail.writeUInt32LE(at, 10);
    entries.push(Buffer.concat([Buffer.from("PK\x01\x02\x14\x00"), fields, tail, Buffer.from(name)]));
    bodies.push(body);
    at += body.length;
  }
  const directory = Buffer.concat(entries);
  const end = Buffer.alloc(18);
  end.writeUInt16LE(entries.length, 4);
  end.writeUInt16LE(entries.length, 6);
  end.writeUInt32LE(directory.length, 8);
  end.writeUInt32LE(at, 12);
  return Buffer.concat([...bodies, directory, Buffer.from("PK\x05\x06"), end]);
}
