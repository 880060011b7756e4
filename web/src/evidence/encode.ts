/** Text as base64 of its UTF-8. */
export function encodeText(text: string): string {
  return encodeBytes(new TextEncoder().encode(text));
}

/** A file's bytes as base64, whatever their encoding. */
export async function encodeFile(file: File): Promise<string> {
  return encodeBytes(new Uint8Array(await file.arrayBuffer()));
}

/** In pieces, as a call takes only so many arguments. */
function encodeBytes(bytes: Uint8Array): string {
  let binary = "";
  for (let i = 0; i < bytes.length; i += 32768)
    binary += String.fromCharCode(...bytes.subarray(i, i + 32768));
  return btoa(binary);
}
