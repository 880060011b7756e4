import type { Case, Drive } from "../api/client";
import { busName } from "./format";

interface Props {
  drive: Case["drives"][number];
  /** What the evidence tells of the drive, once it was looked through. */
  known?: Drive;
}

/** A drive is never named by a number alone: role, model, capacity both ways, bus, identifier. */
export function DriveName({ drive, known }: Props) {
  const size = known?.disk?.size;
  const told = size && `${known.disk?.rounded ? "about " : ""}${size.label} · ${size.binary}`;
  const bus = drive.bus ?? known?.bus;
  const idTail = known?.disk?.idTail;
  const rest = [
    drive.model || "model not known",
    told ?? drive.capacity ?? "capacity not known",
    bus && busName[bus],
    idTail && `…${idTail}`,
  ];
  return (
    <>
      <b>{drive.role}</b> {rest.filter(Boolean).join(" · ")}
    </>
  );
}
