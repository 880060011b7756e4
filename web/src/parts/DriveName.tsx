import type { Case } from "../api/client";
import { busName } from "./format";

interface Props {
  drive: Case["drives"][number];
  /** Last four digits of the disk's identifier, when it is known. */
  idTail?: string;
}

/** A drive is never named by a number alone: role, model, capacity both ways, bus, identifier. */
export function DriveName({ drive, idTail }: Props) {
  const rest = [
    drive.model || "model not known",
    drive.capacity ?? "capacity not known",
    drive.bus && busName[drive.bus],
    idTail && `…${idTail}`,
  ];
  return (
    <>
      <b>{drive.role}</b> {rest.filter(Boolean).join(" · ")}
    </>
  );
}
