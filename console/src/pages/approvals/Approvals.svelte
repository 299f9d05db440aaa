<script lang="ts">
  // The inbox: what others have asked for, exactly, and the decision on it.
  import { Button, Input, Toggle } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, Pages, problemOf } from "../../lib/loader.svelte";
  import { who } from "../../lib/who.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import Delegations from "./Delegations.svelte";
  import PlanAsked from "./PlanAsked.svelte";

  const pages = new Pages();
  let all = $state(false);
  let reasons = $state<Record<string, string>>({});
  let busy = $state("");
  let problem = $state<Problem>();
  const asked = new Loader(() =>
    take(
      api.GET("/approvals", {
        params: { query: { state: all ? undefined : "waiting", limit: 20, after: pages.after } }
      })
    )
  );
  $effect(() => {
    void all;
    void pages.after;
    return whenChanged(() => asked.load());
  });
  const names: Record<string, string> = {
    runs: "Run",
    restores: "Restore",
    disposals: "Disposal",
    loosenings: "Loosened rules",
    lifts: "End of a hold",
    guards: "Guard rails"
  };
  const approved = (a: Schemas["Approval"]) => a.votes.filter((v) => v.approves).length;
  const own = (a: Schemas["Approval"]) => a.asked_by === who.session?.actor;
  const decided = (a: Schemas["Approval"]) => a.votes.some((v) => v.account === who.session?.actor);

  async function decide(a: Schemas["Approval"], how: "approve" | "refuse" | "withdraw") {
    problem = undefined;
    busy = a.id;
    const params = { path: { approval: a.id } };
    const body = { reason: reasons[a.id] ?? "" };
    try {
      if (how === "approve") await take(api.POST("/approvals/{approval}/approve", { params, body }));
      else if (how === "refuse") await take(api.POST("/approvals/{approval}/refuse", { params, body }));
      else await take(api.POST("/approvals/{approval}/withdraw", { params, body }));
      delete reasons[a.id];
      await asked.load();
    } catch (e) {
      problem = problemOf(e);
    }
    busy = "";
  }
</script>

<Page title="Approvals" about="What others have to approve before it is carried out.">
  <Trouble problem={problem ?? asked.problem} />
  <Panel>
    <div class="flex justify-end px-4 py-2">
      <Toggle size="small" bind:checked={all} onchange={() => pages.reset()}
        >those that are decided too</Toggle>
    </div>
    {#if asked.data?.items.length === 0}
      <Blank title={all ? "Nothing was asked for yet" : "Nothing waits for anybody"}
        >Guard rails say what others have to approve: <a class="text-link" href="#/settings/sources"
          >Sources</a
        >.</Blank>
    {/if}
    <ul aria-label="Approvals">
      {#each asked.data?.items ?? [] as a (a.id)}
        <li class="border-t border-gray-100 px-4 py-3 text-sm dark:border-gray-700/60">
          <div class="flex flex-wrap items-center gap-3">
            <State state={a.state} />
            <span class="font-medium">{names[a.what] ?? a.what} in {a.source}</span>
            {#if a.rows >= 0 && a.what !== "lifts" && a.what !== "guards" && a.what !== "loosenings"}<span
                >{count(a.rows)} rows</span
              >{/if}
            <span title="of so many that have to">{approved(a)} of {a.persons} approved</span>
            <span class="ms-auto text-gray-500 dark:text-gray-400"
              >asked by {a.asked_by}, <When at={a.asked_at} /></span>
          </div>
          <p class="mt-1 break-words">{a.summary}</p>
          {#if a.what === "runs"}<PlanAsked plan={a.subject} rule={a.rule} />{/if}
          {#each a.votes as v (v.person)}<p class="mt-1 text-gray-600 dark:text-gray-400">
              {v.approves ? "Approved" : "Refused"} by {v.account}{v.for_person
                ? `, for ${v.for_person}`
                : ""},
              <When at={v.at} />{v.reason ? `: ${v.reason}` : ""}
            </p>{/each}
          {#if a.trouble}<p class="mt-1 text-red-700 dark:text-red-400">
              It could not begin: {a.trouble}
            </p>{/if}
          <p class="mt-1 font-mono text-xs break-all text-gray-500 dark:text-gray-400">
            {a.id}, digest {a.digest}
          </p>
          {#if a.state === "waiting"}
            <div class="mt-2 flex flex-wrap items-center gap-2">
              {#if decided(a)}<span>You have decided; others have to as well.</span>{:else}
                <div class="w-80">
                  <Input
                    size="sm"
                    aria-label="Reason for {a.id}"
                    placeholder={own(a) ? "why it is taken back" : "why; a refusal needs a reason"}
                    bind:value={reasons[a.id]} />
                </div>
                {#if own(a)}<Button
                    size="xs"
                    color="alternative"
                    disabled={busy === a.id || !reasons[a.id]}
                    onclick={() => decide(a, "withdraw")}>Take it back</Button>
                {:else}<Button size="xs" disabled={busy === a.id} onclick={() => decide(a, "approve")}
                    >Approve</Button
                  ><Button
                    size="xs"
                    color="alternative"
                    disabled={busy === a.id || !reasons[a.id]}
                    onclick={() => decide(a, "refuse")}>Refuse</Button
                  >{/if}
              {/if}
              <span class="ms-auto text-gray-500 dark:text-gray-400">until <When at={a.expires_at} /></span>
            </div>
          {/if}
        </li>
      {/each}
    </ul>
  </Panel>
  <Pager {pages} next={asked.data?.next} />
  <Delegations />
</Page>
