import Box from "@mui/material/Box";
import { useMutation } from "@tanstack/react-query";
import { useOutletContext } from "react-router";
import { type Case, type CaseInput, inputOf, updateCase } from "../api/client";
import { useAnswer, useCheck, useTakeCase } from "../api/queries";
import { Changes } from "../parts/Changes";
import { ErrorNotice } from "../parts/ErrorNotice";
import { HookRails } from "./HookRails";
import { KnownSoFar } from "./KnownSoFar";
import { NextThing } from "./NextThing";
import { Situation } from "./Situation";
import { nextThing } from "./next";

/** How a case begins: two questions, one next thing, one place for everything. */
export default function BeginningPage() {
  const c = useOutletContext<Case>();
  const check = useCheck(c.id, c.version, null);
  const take = useTakeCase();
  const answer = useAnswer(c.id);
  const change = useMutation({
    mutationFn: (to: Partial<CaseInput>) => updateCase(c.id, c.version, { ...inputOf(c), ...to }),
    onSuccess: take,
  });
  const error = change.error ?? answer.error ?? check.error;
  return (
    <Box
      sx={{
        display: "grid",
        gridTemplateColumns: { xs: "1fr", md: "minmax(0, 1fr) minmax(0, 1.25fr)" },
        gap: 1.5,
        mt: 1.25,
        alignItems: "start",
      }}
    >
      <Box sx={{ display: "grid", gridTemplateColumns: "minmax(0, 1fr)", gap: 1.25 }}>
        {error !== null && <ErrorNotice error={error} />}
        <Changes>
          <Situation
            stands={c.stands}
            reach={c.reach}
            busy={change.isPending}
            onStands={(stands) => change.mutate({ stands })}
            onReach={(reach) => change.mutate({ reach })}
          />
        </Changes>
        <NextThing next={nextThing(c, check.data)} />
        {check.data && check.data.drives.some((d) => d.disk) && (
          <KnownSoFar
            key={c.version}
            check={check.data}
            busy={answer.isPending}
            onAnswer={(q, option) => answer.mutate({ version: c.version, question: q.id, option })}
          />
        )}
      </Box>
      <Changes quiet>
        <HookRails case={c} check={check.data} />
      </Changes>
    </Box>
  );
}
