// What a person does to a ward, through the API.
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type Schemas, api, got } from "./api";

/** Runs what a person asked for, and reads the ward again afterwards. */
export function useAct(ward: { id: string }, done: () => void = () => {}) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (f: () => Promise<unknown>) => f(),
    onSuccess: () => {
      for (const key of ["ward", "entries", "rejections"]) {
        void client.invalidateQueries({ queryKey: [key, ward.id] });
      }
      done();
    },
  });
}

export const path = (w: { id: string }) => ({ params: { path: { ward: w.id } } });

export const start = (w: { id: string }, body: Schemas["StartRun"]) =>
  got(api.POST("/wards/{ward}/runs", { ...path(w), body }));

/** Looks at the repository, then starts a run. */
export async function lookAndStart(w: { id: string }, body: Schemas["StartRun"]) {
  await got(api.POST("/wards/{ward}/look", path(w)));
  return start(w, body);
}
