import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { type Case, type Check, type Pieces, type Role, swapDisks } from "../api/client";
import { usePieces, useTakeCase } from "../api/queries";
import { DriveName } from "../parts/DriveName";
import { ErrorNotice } from "../parts/ErrorNotice";
import { roles, when } from "../parts/format";
import { BootListForm } from "./BootListForm";
import { DropPlace } from "./DropPlace";
import { type Hanging, useHooks } from "./useHooks";

/** One place to drop everything, and the rails on which each piece hangs where it belongs. */
export function HookRails({ case: c, check }: { case: Case; check?: Check }) {
  const { hanging, add, say, remove } = useHooks(c);
  const pieces = usePieces(c.id, c.version);
  const take = useTakeCase();
  const swap = useMutation({ mutationFn: () => swapDisks(c.id, c.version), onSuccess: take });
  const kept = pieces.data ? tagsOf(pieces.data) : [];
  const on = (rail: string) => kept.filter((t) => t.rails.includes(rail));
  return (
    <Paper component="section" aria-label="Evidence" sx={{ p: 1.5 }}>
      <DropPlace onFiles={add} />
      {swap.isError && <ErrorNotice error={swap.error} />}
      {roles.map((role) => (
        <Rail
          key={role}
          name={
            <DriveName
              drive={c.drives.find((d) => d.role === role)!}
              known={check?.drives.find((d) => d.role === role)}
            />
          }
          empty={`Nothing of the ${role} yet.`}
          action={
            role === "original" && kept.some((t) => t.rails.some((r) => r !== "machine")) ? (
              <Button size="small" disabled={swap.isPending} onClick={() => swap.mutate()}>
                It is the other way round
              </Button>
            ) : undefined
          }
        >
          {on(role).map((t) => (
            <Tag key={t.key} title={t.title} lines={t.lines} />
          ))}
        </Rail>
      ))}
      <Rail name={<b>the machine</b>} empty="Mode, order, entries, controller: not told yet.">
        {[...on("machine"), ...toldTag(c)].map((t) => (
          <Tag key={t.key} title={t.title} lines={t.lines} />
        ))}
      </Rail>
      <BootListForm case={c} />
      {hanging.length > 0 && (
        <Rail name={<b>no hook yet</b>} dashed empty="">
          {hanging.map((h) => (
            <Waiting key={h.key} hanging={h} candidates={check?.drives ?? []} onSay={say} onRemove={remove} />
          ))}
        </Rail>
      )}
    </Paper>
  );
}

function Rail({
  name,
  empty,
  action,
  dashed,
  children,
}: {
  name: ReactNode;
  empty: string;
  action?: ReactNode;
  dashed?: boolean;
  children: ReactNode[];
}) {
  return (
    <Box component="section" sx={{ mt: 1.25 }}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, minHeight: 24 }}>
        <Typography
          variant="body2"
          color="text.secondary"
          sx={{ mr: "auto", "& b": { color: "text.primary" } }}
        >
          {name}
        </Typography>
        {action}
      </Box>
      <Box
        sx={{
          borderTop: dashed ? "2px dashed" : "5px solid",
          borderColor: dashed ? "text.secondary" : "meaning.solid",
          display: "flex",
          flexWrap: "wrap",
          alignItems: "flex-start",
          columnGap: 1.5,
          rowGap: 0.5,
          pl: 1,
        }}
      >
        {children.length > 0 ? (
          children
        ) : (
          <Typography variant="body2" color="text.secondary" sx={{ py: 0.75 }}>
            {empty}
          </Typography>
        )}
      </Box>
    </Box>
  );
}

/** A tag that hangs on a rail by its thread. */
function Hook({ asks, children }: { asks?: boolean; children: ReactNode }) {
  return (
    <Box
      sx={{
        position: "relative",
        mt: 1.75,
        width: 190,
        maxWidth: "100%",
        bgcolor: "background.default",
        border: asks ? "1.5px dashed" : "1px solid",
        borderColor: asks ? "primary.main" : "text.secondary",
        borderRadius: 1,
        p: "12px 10px 7px",
        "&::before": {
          content: '""',
          position: "absolute",
          left: "50%",
          top: -15,
          height: 19,
          borderLeft: "1.5px solid",
          borderColor: "text.secondary",
        },
        "&::after": {
          content: '""',
          position: "absolute",
          left: "calc(50% - 3.5px)",
          top: 3,
          width: 7,
          height: 7,
          border: "1.5px solid",
          borderColor: "text.secondary",
          borderRadius: "50%",
          bgcolor: "background.paper",
        },
      }}
    >
      {children}
    </Box>
  );
}

function Tag({ title, lines }: { title: string; lines: string[] }) {
  return (
    <Hook>
      <Typography variant="body2" sx={{ fontWeight: 650, overflowWrap: "anywhere" }}>
        {title}
      </Typography>
      {lines.map((line) => (
        <Typography key={line} variant="caption" component="p" sx={{ overflowWrap: "anywhere" }}>
          {line}
        </Typography>
      ))}
    </Hook>
  );
}

/** A piece that does not hang yet: it is looked at, sent, refused, or asks whose it is. */
function Waiting({
  hanging: h,
  candidates,
  onSay,
  onRemove,
}: {
  hanging: Hanging;
  /** What is known of the two disks that it may be of. */
  candidates: Check["drives"];
  onSay: (h: Hanging, name: string, role: Role) => void;
  onRemove: (key: number) => void;
}) {
  const name = h.file.name === "paste" ? "what was typed" : h.file.name;
  return (
    <Hook asks={h.state === "asks"}>
      <Typography variant="body2" sx={{ fontWeight: 650, overflowWrap: "anywhere" }}>
        {name}
      </Typography>
      {h.state === "looking" && <Typography variant="caption">is being looked at</Typography>}
      {h.state === "sending" && (
        <>
          <LinearProgress
            aria-label={`Sending ${name}`}
            variant={h.progress !== undefined && h.progress < 1 ? "determinate" : "indeterminate"}
            value={(h.progress ?? 0) * 100}
          />
          <Typography variant="caption">
            {h.progress !== undefined && h.progress < 1
              ? `${Math.round(h.progress * 100)} %`
              : "is being read"}
          </Typography>
        </>
      )}
      {h.state === "refused" && (
        <>
          <Typography variant="caption" component="p" color="error" sx={{ overflowWrap: "anywhere" }}>
            {h.says}
          </Typography>
          <Button size="small" onClick={() => onRemove(h.key)} aria-label={`Take away ${name}`}>
            Take it away
          </Button>
        </>
      )}
      {h.state === "asks" && (
        <>
          <Typography variant="caption" component="p">
            {h.piece?.says}
          </Typography>
          {h.piece?.disks.map((d) => (
            <Box
              key={d.name}
              role="group"
              aria-label={d.holds ? `On which disk lies the ${d.holds}?` : `Which disk is ${d.name}?`}
              sx={{ mt: 0.5 }}
            >
              <Typography variant="caption" component="p">
                {[d.holds || d.name, d.model, d.size, d.style].filter(Boolean).join(" · ")}
                {d.why && <Box component="span" sx={{ color: "text.secondary" }}>{` ${d.why}`}</Box>}
              </Typography>
              <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 0.5, mt: 0.5 }}>
                {roles.map((role) => (
                  <Box key={role}>
                    <Button
                      size="small"
                      fullWidth
                      variant={h.roles[d.name] === role ? "contained" : "outlined"}
                      onClick={() => onSay(h, d.name, role)}
                    >
                      {role}
                    </Button>
                    <Typography variant="caption" component="p" color="text.secondary">
                      {candidate(candidates.find((x) => x.role === role))}
                    </Typography>
                  </Box>
                ))}
              </Box>
            </Box>
          ))}
          <Button size="small" onClick={() => onRemove(h.key)} aria-label={`Take away ${name}`}>
            Take it away
          </Button>
        </>
      )}
    </Hook>
  );
}

/** What is known of a disk that a piece may be of, in short. */
function candidate(d: Check["drives"][number] | undefined): string {
  if (!d?.disk) return "nothing of it yet";
  return [d.disk.size?.label, d.disk.style, d.disk.idTail && `…${d.disk.idTail}`].filter(Boolean).join(" · ");
}

/** What people told of the machine, as a tag of its own. */
function toldTag(c: Case): KeptTag[] {
  if (c.statements.length === 0) return [];
  const shown = c.statements.slice(0, 4).map((s) => `${s.label}: ${s.says}`);
  const more = c.statements.length - shown.length;
  return [
    {
      key: "statements",
      title: "told by people",
      lines: more > 0 ? [...shown, `and ${more} more`] : shown,
      rails: ["machine"],
    },
  ];
}

interface KeptTag {
  key: string;
  title: string;
  lines: string[];
  rails: string[];
}

/** The tags of what is kept: bytes and what was told hang on their disk, a listing on each that it speaks of. */
function tagsOf(p: Pieces): KeptTag[] {
  return [
    ...p.bytes
      .filter((b) => !b.withdrawnAt)
      .map((b) => ({
        key: `bytes ${b.id}`,
        title: b.filename || "bytes",
        lines: [`${b.held} of ${b.capacity}`, `${when(b.takenAt)}${b.inForce ? "" : ", not the latest"}`],
        rails: [b.role],
      })),
    ...p.listings
      .filter((l) => !l.withdrawnAt)
      .map((l) => {
        const of = Object.entries(l.disks).filter(([, role]) => role);
        return {
          key: `listing ${l.id}`,
          title: l.format,
          lines: [
            of.length > 0
              ? of.map(([name, role]) => (name === role ? `the ${role}` : `${name}: ${role}`)).join(", ")
              : "of the machine",
            when(l.receivedAt),
          ],
          rails: of.length > 0 ? [...new Set(of.map(([, role]) => role))] : ["machine"],
        };
      }),
    ...p.told.map((t) => ({
      key: `told ${t.role}`,
      title: "read aloud",
      lines: [
        `${t.disk.partitions?.length ?? 0} ${t.disk.partitions?.length === 1 ? "partition" : "partitions"}`,
      ],
      rails: [t.role],
    })),
  ];
}
