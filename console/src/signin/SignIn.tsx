import { type FormEvent, useState } from "react";
import { api, got, type Me, type Schemas } from "../api/client";
import { Failure } from "../ui/Note";
import { Signal } from "../ui/Signal";

export function SignIn({ status, done }: { status: Schemas["Status"] | undefined; done: (me: Me) => void }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const send = (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    setError(undefined);
    got(api.POST("/api/v1/session", { body: { name, password } }))
      .then(done)
      .catch(setError)
      .finally(() => setBusy(false));
  };
  return (
    <main className="grid min-h-screen grid-rows-[auto_1fr] md:grid-cols-[minmax(0,5fr)_minmax(0,6fr)] md:grid-rows-1">
      <div className="board flex flex-col justify-end p-5 md:p-12">
        <Signal state="ok" size={72} label={false} />
        <p className="mt-3 font-dense text-2xl md:mt-6 md:text-3xl">Every server, in one look.</p>
        <p className="mt-1 font-dense text-ink-2 text-xl">{status?.organisation || "Balise"}</p>
      </div>
      <form onSubmit={send} className="flex max-w-md flex-col gap-4 p-5 md:justify-center md:p-12">
        <h1 className="font-semibold text-2xl">Sign in to Balise</h1>
        {status?.needs_first_user && (
          <div className="border-warning border-l-4 pl-3 text-sm">
            <p>There is no user yet. Make the first one where the console runs:</p>
            <code className="mt-1 block break-all">
              balise user add NAME --role administrator --password-stdin --data DIR
            </code>
          </div>
        )}
        <label className="flex flex-col gap-1">
          Name
          <input
            className="input w-full"
            name="name"
            autoComplete="username"
            // biome-ignore lint/a11y/noAutofocus: the page has this one purpose
            autoFocus
            required
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
        </label>
        <label className="flex flex-col gap-1">
          Password
          <input
            className="input w-full"
            name="password"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => setPassword(e.target.value)}
          />
        </label>
        {error !== undefined && <Failure error={error} />}
        <button type="submit" className="btn btn-primary self-start" disabled={busy}>
          {busy ? "Signing in …" : "Sign in"}
        </button>
      </form>
    </main>
  );
}
