import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

/** Doing something about an incident: what went wrong, if anything, is said; else what is shown of incidents is read anew. */
export function useAct(after: () => void): { act: (work: Promise<unknown>) => Promise<void>; problem: string } {
  const client = useQueryClient();
  const [problem, setProblem] = useState("");
  const act = async (work: Promise<unknown>) => {
    try {
      await work;
      after();
      setProblem("");
      await Promise.all(["incident", "incidents"].map((key) => client.invalidateQueries({ queryKey: [key] })));
    } catch (error) {
      setProblem((error as Error).message);
    }
  };
  return { act, problem };
}
