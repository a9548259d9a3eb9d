/** How each condition of an agent looks; those that need somebody stand first. */
import type { AgentState } from "../../api/agents";

export const LOOK: Record<AgentState["condition"], { mark: string; word: string; colour: string }> = {
  silent: { mark: "▲", word: "silent", colour: "text-fails" },
  refused: { mark: "▲", word: "refused its plan", colour: "text-fails" },
  trouble: { mark: "▲", word: "in trouble", colour: "text-fails" },
  contradicted: { mark: "▲", word: "contradicted", colour: "text-fails" },
  stale: { mark: "◐", word: "taking its plan", colour: "text-waits" },
  fine: { mark: "●", word: "fine", colour: "text-goes-on" },
};

/** Whether somebody has to do something. */
export const needsSomebody = (agent: AgentState) => agent.condition !== "fine" && agent.condition !== "stale";
