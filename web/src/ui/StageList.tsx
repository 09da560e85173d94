import { useCampaign } from "../api/queries";
import type { Stage } from "../api/types";
import { STAGE_NAMES, STAGES, useApp } from "../state";

const SPOKEN = {
  done: "done",
  look: "something to look at",
  todo: "to do",
  waiting: "waiting",
  working: "at work",
};

export function StageList() {
  const campaign = useApp((s) => s.campaign);
  const stage = useApp((s) => s.stage);
  const set = useApp((s) => s.set);
  const { data } = useCampaign(campaign);
  return (
    <nav aria-label="stages" className="flex flex-col border-r border-line bg-panel pt-1">
      {STAGES.map((key, i) => {
        const state = data?.stages.find((one) => one.key === key);
        const here = key === stage;
        return (
          <button
            key={key}
            aria-current={here ? "step" : undefined}
            title={`${state ? `${SPOKEN[state.state]}: ${state.words}` : ""} (${i + 1})`}
            className={`flex items-center gap-1.5 border-l-2 py-2 pr-2 pl-2.5 text-left ${
              here ? "border-beam bg-raised" : "border-transparent hover:bg-raised"
            } ${state?.state === "waiting" ? "text-quiet" : ""}`}
            onClick={() => set({ stage: key, master: null })}
          >
            {STAGE_NAMES[key]}
            {state && ["done", "todo", "waiting"].includes(state.state) && state.remarks > 0 && (
              <span className="num ml-auto text-beam">{state.remarks}</span>
            )}
            <Sign stage={state} />
          </button>
        );
      })}
    </nav>
  );
}

/** Done: a tick. To look at: the number. To do: a ring. At work: a turning arc. */
function Sign({ stage }: { stage: Stage | undefined }) {
  if (!stage) return null;
  // The number of remarks stands before a sign, but for the arc: both do not fit.
  const counted = !["look", "working"].includes(stage.state) && stage.remarks > 0;
  const frame = counted ? "shrink-0" : "ml-auto shrink-0";
  switch (stage.state) {
    case "done":
      return (
        <svg className={frame} width="11" height="9" aria-hidden>
          <path d="M1 4.5 4 7.5 10 1" fill="none" stroke="var(--quiet)" strokeWidth="1.5" />
        </svg>
      );
    case "look":
      return <span className={`num ${frame} text-beam`}>{stage.count + stage.remarks}</span>;
    case "working":
      return (
        <svg className={`${frame} turning`} width="12" height="12" aria-hidden>
          <path d="M6 1a5 5 0 1 1-5 5" fill="none" stroke="var(--beam)" strokeWidth="1.6" />
        </svg>
      );
    case "todo":
      return (
        <svg className={frame} width="11" height="11" aria-hidden>
          <circle cx="5.5" cy="5.5" r="4" fill="none" stroke="var(--beam)" strokeWidth="1.5" />
        </svg>
      );
    default:
      return null;
  }
}
