<script lang="ts">
  import { Input, Label } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  type Limits = Schemas["QueueLimits"];
  const limits = new Loader(() => take(api.GET("/queue/limits")));
  const names: [keyof Limits, string][] = [
    ["all", "Runs in all"],
    ["source", "Runs of one source"],
    ["restores", "Restores"],
    ["exports", "Exports"],
    ["disposals", "Disposals"],
    ["verifications", "Verifications"],
    ["moves", "Moves"],
    ["copies", "Second copies"],
    ["audits", "Exports of the audit log"]
  ];
  let now = $state<Limits>();
  let problem = $state<Problem>();
  let done = $state(false);
  limits.load().then(() => (now = limits.data && { ...limits.data }));

  async function change(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    done = false;
    try {
      const body = Object.fromEntries(names.map(([name]) => [name, Number(now?.[name])])) as Limits;
      now = { ...(await take(api.PUT("/queue/limits", { body }))) };
      done = true;
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<Panel title="How many work at a time">
  <Trouble problem={limits.problem ?? problem} />
  {#if now}
    <form class="flex flex-wrap items-end gap-3 p-4" onsubmit={change}>
      {#each names as [name, label] (name)}
        <Label
          >{label}<Input
            size="sm"
            type="number"
            min="1"
            max="64"
            class="w-36"
            id="limit-{name}"
            bind:value={now[name]} /></Label>
      {/each}
      <Act right="administer" size="sm" type="submit" color="alternative">Change</Act>
      <span role="status" class="text-sm">{done ? "Changed." : ""}</span>
    </form>
  {/if}
</Panel>
