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
  type CaseInput,
  type MarkInput,
  type Role,
  type Seen,
  type Toolbox,
  type Verdict,
  type WhatIf,
  checkCase,
  createCase,
  findMessages,
  getCase,
  getListing,
  getPlan,
  listCases,
  listDownloads,
  listPartitionTypes,
  listPieces,
  listReferences,
  markStep,
  readBytes,
  recordFirstStart,
  recordFirstStartCapture,
  switchOn,
  updateCase,
  whatIf,
} from "./client";

export const useCases = (q: string, reaches: Verdict | "") =>
  useInfiniteQuery({
    queryKey: ["cases", q, reaches],
    queryFn: ({ pageParam }) => listCases(q, reaches, pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  });

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
export const usePlan = (id: number, version: number, toolboxes: Toolbox[]) =>
  useQuery({
    queryKey: ["plan", id, version, toolboxes],
    queryFn: () => getPlan(id, toolboxes),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  });

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

export function useFirstStart(id: number) {
  const take = useTakeCase();
  return useMutation({
    mutationFn: ({ version, seen, file }: { version: number; seen: Seen; file?: File }) =>
      file
        ? recordFirstStartCapture(id, version, { file, looked: seen.looked ?? [], who: seen.who })
        : recordFirstStart(id, version, seen),
    onSuccess: (r) => take(r.case),
  });
}

export const useBytes = (id: number, role: Role, offset: number, length: number) =>
  useQuery({
    queryKey: ["bytes", id, role, offset, length],
    queryFn: () => readBytes(id, role, offset, length),
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

export const useListing = (id: number, listing: number) =>
  useQuery({
    queryKey: ["listing", id, listing],
    queryFn: () => getListing(id, listing),
    staleTime: Infinity,
  });

export const useDownloads = () => useQuery({ queryKey: ["downloads"], queryFn: listDownloads });

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

export function useUpdateCase(id: number) {
  const take = useTakeCase();
  return useMutation({
    mutationFn: ({ version, input }: { version: number; input: CaseInput }) => updateCase(id, version, input),
    onSuccess: take,
  });
}
