import {
  keepPreviousData,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import {
  type Bench,
  type Case,
  type CaseFilter,
  type CaseInput,
  type MarkInput,
  type Person,
  type PersonRole,
  type PlanOfCopy,
  type Role,
  type Toolbox,
  type WhatIf,
  answerQuestion,
  caseHistory,
  checkCase,
  createCase,
  findMessages,
  getCase,
  getListing,
  getPlan,
  getPreparing,
  getSettings,
  listAccounts,
  listCases,
  listDownloads,
  listPartitionTypes,
  listPieces,
  listReferences,
  listTables,
  markStep,
  previewCopy,
  readBytes,
  securityLog,
  switchOn,
  updateCase,
  whatIf,
  whoAmI,
  withdrawStatement,
} from "./client";
import { type Seen, getHandOver, recordStart, recordStartCapture } from "./handover";
import { getFigures, getFleet, modelMemory } from "./memory";

export const useCases = (filter: CaseFilter) =>
  useInfiniteQuery({
    queryKey: ["cases", filter],
    queryFn: ({ pageParam }) => listCases(filter, pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });

export const useModelMemory = (id: number, version: number) =>
  useQuery({
    queryKey: ["model", id, version],
    queryFn: () => modelMemory(id),
    placeholderData: keepPreviousData,
  });

/** How far judging all cases is; looked at again while it goes on. */
export const useFleet = () =>
  useQuery({
    queryKey: ["fleet"],
    queryFn: getFleet,
    refetchInterval: (q) => (q.state.data && q.state.data.judged < q.state.data.all ? 2000 : false),
  });

export const useFigures = () => useQuery({ queryKey: ["figures"], queryFn: getFigures });

export const useCase = (id: number) => useQuery({ queryKey: ["case", id], queryFn: () => getCase(id) });

/** The start check of a case as it stands, or on the changed machine of a what-if. */
export const useCheck = (id: number, version: number | undefined, change: WhatIf | null) =>
  useQuery({
    queryKey: ["check", id, version, change],
    queryFn: () => (change ? whatIf(id, change) : checkCase(id)),
    enabled: version !== undefined,
    placeholderData: keepPreviousData,
  });

export const useMessages = (q: string) =>
  useQuery({
    queryKey: ["messages", q],
    queryFn: () => findMessages(q),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

export const usePartitionTypes = () =>
  useQuery({ queryKey: ["partition-types"], queryFn: listPartitionTypes, staleTime: Infinity });

export const useBench = (bench: Bench) =>
  useQuery({
    queryKey: ["bench", bench],
    queryFn: () => switchOn(bench),
    enabled: bench.drives.length > 0,
    placeholderData: keepPreviousData,
  });

/** The plan as it is now; looked at anew while it is open, so that two technicians see each other's ticks. */
export function usePlan(id: number, version: number, toolboxes: Toolbox[]) {
  const queryKey = ["plan", id, version, toolboxes];
  const client = useQueryClient();
  return useQuery({
    queryKey,
    queryFn: () => getPlan(id, toolboxes, client.getQueryData(queryKey) !== undefined),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  });
}

export function useMarkStep(id: number, toolboxes: Toolbox[]) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ version, mark }: { version: number; mark: MarkInput }) =>
      markStep(id, version, toolboxes, mark),
    onSettled: () => {
      void client.invalidateQueries({ queryKey: ["case", id] });
      void client.invalidateQueries({ queryKey: ["plan", id] });
    },
  });
}

export function useRecordStart(id: number) {
  const take = useTakeCase();
  return useMutation({
    mutationFn: ({ version, seen, file }: { version: number; seen: Seen; file?: File }) =>
      file ? recordStartCapture(id, version, file, seen) : recordStart(id, version, seen),
    onSuccess: (r) => take(r.case),
  });
}

export const useHandOver = (id: number, version: number) =>
  useQuery({
    queryKey: ["hand-over", id, version],
    queryFn: () => getHandOver(id),
    placeholderData: keepPreviousData,
  });

/** A change of a case that answers with the case as it is then. */
export function useChangeCase<I>(mutationFn: (input: I) => Promise<Case>) {
  const take = useTakeCase();
  return useMutation({ mutationFn, onSuccess: take });
}

/** Bytes of one piece of evidence, which never change; another piece has bytes of its own. */
export const useBytes = (id: number, role: Role, evidence: number, offset: number, length: number) =>
  useQuery({
    queryKey: ["bytes", id, role, evidence, offset, length],
    queryFn: () => readBytes(id, role, evidence, offset, length),
    staleTime: Infinity,
  });

export const usePieces = (id: number, version: number) =>
  useQuery({
    queryKey: ["pieces", id, version],
    queryFn: () => listPieces(id),
    placeholderData: keepPreviousData,
  });

export const useReferences = (id: number, version: number) =>
  useQuery({
    queryKey: ["references", id, version],
    queryFn: () => listReferences(id),
    placeholderData: keepPreviousData,
  });

export const useTables = (id: number, version: number) =>
  useQuery({
    queryKey: ["tables", id, version],
    queryFn: () => listTables(id),
    placeholderData: keepPreviousData,
  });

export const useListing = (id: number, listing: number) =>
  useQuery({
    queryKey: ["listing", id, listing],
    queryFn: () => getListing(id, listing),
    staleTime: Infinity,
  });

export const useDownloads = () => useQuery({ queryKey: ["downloads"], queryFn: listDownloads });

/** Who is signed in; an error of status 401 when nobody is. */
export const useMe = () => useQuery({ queryKey: sessionKey, queryFn: whoAmI, staleTime: 60_000 });

export const sessionKey = ["session"];

/** Whether the person who is signed in may do what a role may. */
export function useMay(role: PersonRole) {
  const ranks: PersonRole[] = ["reader", "technician", "lead"];
  const me = useMe();
  return me.data !== undefined && ranks.indexOf(me.data.role) >= ranks.indexOf(role);
}

/** Takes over who has signed in, and lets go of what was loaded for somebody else. */
export function useTakePerson() {
  const client = useQueryClient();
  return (p: Person | null) => {
    client.removeQueries({ predicate: (q) => q.queryKey !== sessionKey });
    if (p) client.setQueryData(sessionKey, p);
    else void client.resetQueries({ queryKey: sessionKey });
  };
}

export const useAccounts = () => useQuery({ queryKey: ["accounts"], queryFn: listAccounts });

export function useChangeAccounts<I, O>(mutationFn: (input: I) => Promise<O>) {
  const client = useQueryClient();
  return useMutation({
    mutationFn,
    onSettled: () => {
      void client.invalidateQueries({ queryKey: ["accounts"] });
      void client.invalidateQueries({ queryKey: ["security-log"] });
    },
  });
}

export const useSecurityLog = () =>
  useInfiniteQuery({
    queryKey: ["security-log"],
    queryFn: ({ pageParam }) => securityLog(pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => (last.length < 200 ? undefined : last.at(-1)?.id),
  });

export const useSettings = () => useQuery({ queryKey: ["settings"], queryFn: getSettings });

export const useHistory = (id: number, version: number) =>
  useInfiniteQuery({
    queryKey: ["history", id, version],
    queryFn: ({ pageParam }) => caseHistory(id, pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => (last.length < 200 ? undefined : last.at(-1)?.id),
  });

/** Puts a case that the server returned in the place of the one on the screen. */
export function useTakeCase() {
  const client = useQueryClient();
  return (c: Case) => {
    client.setQueryData(["case", c.id], c);
    void client.invalidateQueries({ queryKey: ["cases"] });
  };
}

export function useCreateCase() {
  const take = useTakeCase();
  return useMutation({ mutationFn: (input: CaseInput) => createCase(input), onSuccess: take });
}

/** Answers a question of the check, or of the plan with some toolboxes. */
export function useAnswer(id: number, toolboxes: Toolbox[] = []) {
  const take = useTakeCase();
  return useMutation({
    mutationFn: ({ version, question, option }: { version: number; question: string; option: string }) =>
      answerQuestion(id, version, question, option, toolboxes),
    onSuccess: take,
  });
}

export function useWithdrawStatement(id: number) {
  const take = useTakeCase();
  return useMutation({
    mutationFn: ({ version, fact }: { version: number; fact: string }) =>
      withdrawStatement(id, version, fact),
    onSuccess: take,
  });
}

export function useUpdateCase(id: number) {
  const take = useTakeCase();
  return useMutation({
    mutationFn: ({ version, input }: { version: number; input: CaseInput }) => updateCase(id, version, input),
    onSuccess: take,
  });
}

/** What is computed before a copy: by the plan that is kept, or by one that is tried. */
export const usePreparing = (id: number, version: number, plan: PlanOfCopy | null) =>
  useQuery({
    queryKey: ["prepare", id, version, plan],
    queryFn: () => (plan ? previewCopy(id, plan) : getPreparing(id)),
    placeholderData: keepPreviousData,
    retry: false,
  });
