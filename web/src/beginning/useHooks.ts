import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import {
  type Case,
  type Piece,
  type Role,
  addEvidence,
  addListing,
  addStickRecord,
  getCase,
  recognisePiece,
} from "../api/client";
import { Problem } from "../api/call";
import { useTakeCase } from "../api/queries";
import { type Sitting, ofTheStick } from "./stickFolder";

/** A piece on its way: it is looked at, asks which disk it is of, is sent, or was refused. */
export interface Hanging {
  key: number;
  file: File;
  state: "looking" | "asks" | "sending" | "refused";
  piece?: Piece;
  /** How much of it was sent, from 0 to 1. */
  progress?: number;
  says?: string;
  /** The disk that was said for each of its disks. */
  roles: Record<string, Role>;
}

/** Takes pieces in one after the other: says what each is, and hangs it where it belongs. */
export function useHooks(c: Case) {
  const [hanging, setHanging] = useState<Hanging[]>([]);
  const take = useTakeCase();
  const client = useQueryClient();
  const last = useRef(0);
  const queue = useRef(Promise.resolve());

  const change = (key: number, to: Partial<Hanging>) =>
    setHanging((all) => all.map((h) => (h.key === key ? { ...h, ...to } : h)));
  const remove = (key: number) => setHanging((all) => all.filter((h) => h.key !== key));
  const current = () => client.getQueryData<Case>(["case", c.id]) ?? c;

  const send = async (h: Hanging, piece: Piece, roles: Record<string, Role>) => {
    change(h.key, { state: "sending", progress: 0 });
    const { version } = current();
    const only = piece.disks[0];
    if (piece.kind === "listing") take(await addListing(c.id, version, { file: h.file, format: "" }, roles));
    else if (only)
      take(
        await addEvidence(
          c.id,
          version,
          roles[only.name]!,
          { file: h.file, capacity: "", sectorSize: 0, confirm: false },
          (progress) => change(h.key, { progress }),
          new AbortController().signal,
        ),
      );
    remove(h.key);
  };

  const guarded = (h: Hanging, what: () => Promise<void>) => {
    queue.current = queue.current.then(async () => {
      try {
        await what();
      } catch (e) {
        change(h.key, {
          state: "refused",
          says: e instanceof Problem ? e.message : "It could not be taken.",
        });
      }
    });
  };

  /** Takes what the stick did into the case's history, behind the evidence that came with it. */
  const takeSitting = (sitting: Sitting) => {
    const file = (sitting.steps ?? sitting.record)!;
    const h: Hanging = { key: ++last.current, file, state: "sending", roles: {} };
    setHanging((all) => [...all, h]);
    guarded(h, async () => {
      const { version } = current();
      await addStickRecord(
        c.id,
        version,
        (await sitting.steps?.text()) ?? "",
        (await sitting.record?.text()) ?? "",
      );
      take(await getCase(c.id));
      remove(h.key);
    });
  };

  /** Looks at files, and hangs those at once of which it is told whose they are. */
  const add = (files: File[]) => {
    const { pieces, sittings } = ofTheStick(files);
    for (const file of pieces) {
      const h: Hanging = { key: ++last.current, file, state: "looking", roles: {} };
      setHanging((all) => [...all, h]);
      guarded(h, async () => {
        const piece = await recognisePiece(c.id, file);
        const roles: Record<string, Role> = {};
        for (const d of piece.disks) if (d.role) roles[d.name] = d.role as Role;
        if (piece.kind === "refused") change(h.key, { state: "refused", piece, says: piece.says });
        else if (piece.disks.every((d) => roles[d.name])) await send(h, piece, roles);
        else change(h.key, { state: "asks", piece, roles });
      });
    }
    for (const sitting of sittings) takeSitting(sitting);
  };

  /** Says which disk of the case one of a piece's disks is; when all are said it is hung. */
  const say = (h: Hanging, name: string, role: Role) => {
    const roles = { ...h.roles, [name]: role };
    const { piece } = h;
    change(h.key, { roles });
    if (piece?.disks.every((d) => roles[d.name])) guarded(h, () => send(h, piece, roles));
  };

  return { hanging, add, say, remove };
}
