import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect } from "react";
import { useNavigate } from "react-router";
import { api, got, type Me, type Schemas } from "../api/client";
import { Failure, Waiting } from "../ui/Note";
import { remember, remembered } from "./remembered";
import { SignIn } from "./SignIn";

interface Session {
  me: Me;
  status: Schemas["Status"] | undefined;
  signOut: () => void;
}

const Context = createContext<Session | undefined>(undefined);

export function useSession(): Session {
  const session = useContext(Context);
  if (!session) throw new Error("useSession outside of SessionGate");
  return session;
}

/** Whether somebody may change things. */
export function useMay(role: "operator" | "administrator"): boolean {
  const { me } = useSession();
  return me.role === "administrator" || (role === "operator" && me.role === "operator");
}

/** Shows the pages to whoever is signed in, and the sign-in page to everybody else. */
export function SessionGate({ children }: { children: ReactNode }) {
  const client = useQueryClient();
  const go = useNavigate();
  const session = useQuery({
    queryKey: ["session"],
    queryFn: () => got(api.GET("/api/v1/session")),
    retry: 2,
    initialData: remembered,
    initialDataUpdatedAt: 0,
  });
  const status = useQuery({
    queryKey: ["status", "of", session.data?.name ?? ""],
    queryFn: () => got(api.GET("/api/v1/status")),
    staleTime: 60_000,
    refetchInterval: 60_000,
  });
  useEffect(() => {
    const ended = () => client.setQueryData(["session"], { name: null, role: null, first_page: "" });
    window.addEventListener("balise:signed-out", ended);
    return () => window.removeEventListener("balise:signed-out", ended);
  }, [client]);
  const me = session.data;
  useEffect(() => {
    if (me) remember(me);
  }, [me]);
  if (session.isError && !me) {
    return (
      <div className="p-8">
        <Failure error={session.error} again={() => void session.refetch()} />
      </div>
    );
  }
  if (!session.data) {
    return (
      <main className="p-8">
        <Waiting what="the console" />
      </main>
    );
  }
  if (session.data.name === null) {
    const signedIn = (me: Me) => {
      // Whoever came for a page gets it; whoever came to the console, the page they begin with.
      if (window.location.pathname === "/" && me.first_page) void go(me.first_page, { replace: true });
      client.setQueryData(["session"], me);
    };
    return <SignIn status={status.data} done={signedIn} />;
  }
  const signOut = () => {
    api
      .DELETE("/api/v1/session")
      .then(() => {
        client.clear();
        remember({ name: null, role: null, first_page: "" });
      })
      .finally(() => window.location.assign("/"))
      .catch(() => undefined);
  };
  return <Context value={{ me: session.data, status: status.data, signOut }}>{children}</Context>;
}
