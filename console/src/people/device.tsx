// A command line that waits to be let in.
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, got } from "../shared/api";
import { Button, Wrong, useNow } from "../shared/parts";
import { ago } from "../shared/words";

export function DevicePage() {
  const [params, setParams] = useSearchParams();
  const code = params.get("code") ?? "";
  const [typed, setTyped] = useState("");
  const now = useNow();
  const me = useQuery({ queryKey: ["me"], queryFn: () => got(api.GET("/me")) });
  const at = { params: { path: { code } } };
  const device = useQuery({
    queryKey: ["device", code],
    queryFn: () => got(api.GET("/devices/{code}", at)),
    enabled: code !== "",
    staleTime: Infinity,
  });
  // Where this browser is on the machine of the command line, it waits there for word; nobody is sent anywhere but to a port of their own machine.
  const here = /^\d{1,5}$/.test(params.get("here") ?? "") ? params.get("here") : null;
  const answer = useMutation({
    mutationFn: (lets: boolean) => got(api.POST("/devices/{code}", { ...at, body: { let: lets } })),
    onSuccess: (_, lets) => {
      if (lets && here && device.data?.near) location.assign(`http://127.0.0.1:${here}/let-in`);
    },
  });
  return (
    <div className="mx-auto mt-8 max-w-[34rem]">
      <h1 className="text-2xl font-bold">A command line wants in</h1>
      {code === "" && (
        <form
          className="mt-5 flex gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            setParams({ code: typed.trim() });
          }}
        >
          <input
            autoFocus
            autoComplete="off"
            aria-label="Code that the command line shows"
            placeholder="Code that the command line shows"
            value={typed}
            onChange={(e) => setTyped(e.target.value)}
            className="flex-1 rounded-md border border-rule bg-sheet px-3 py-1.5 font-mono uppercase placeholder:font-sans placeholder:normal-case"
          />
          <Button strong type="submit" disabled={!typed.trim()}>
            Look
          </Button>
        </form>
      )}
      {device.error && <Wrong error={device.error} />}
      {device.data && !answer.isSuccess && (
        <>
          <p className="my-6 text-center font-mono text-3xl tracking-widest">{device.data.code}</p>
          <p>
            It asked {ago(device.data.made, now)}
            {device.data.address && ` from ${device.data.address}`}. Let in, it does whatever you may do, as{" "}
            <strong>{me.data?.name}</strong> ({me.data?.role}).
          </p>
          <p className="mt-3">
            Let it in only if your own terminal shows this very code. Whoever sent you here with one of theirs
            would be signed in as you.
          </p>
          <div className="mt-6 flex gap-2">
            <Button strong disabled={answer.isPending} onClick={() => answer.mutate(true)}>
              Let it in
            </Button>
            <Button disabled={answer.isPending} onClick={() => answer.mutate(false)}>
              It is not mine
            </Button>
          </div>
          {answer.error && <Wrong error={answer.error} />}
        </>
      )}
      {answer.isSuccess && (
        <p role="status" className="mt-6">
          {answer.variables
            ? "It is signed in as you. You can go back to the terminal; vigila session list shows it, and ends it."
            : "It was not let in."}
        </p>
      )}
    </div>
  );
}
