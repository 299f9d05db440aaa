<script lang="ts">
  // Exports that are made again and again, each of the entries since the one before.
  import { Button, Input, Label } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";
  import { inWords } from "./query";

  let { format, tell, meant }: { format: string; tell: string; meant: Record<string, string | undefined> } =
    $props();
  let name = $state("");
  let when = $state("monthly on the 1st at 06:00");
  let open = $state(false);
  let problem = $state<Problem>();
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";
  const list = new Loader(() => take(api.GET("/audit/schedules")));
  list.load();

  async function act(what: () => Promise<unknown>) {
    problem = undefined;
    try {
      await what();
      await list.load();
      open = false;
    } catch (e) {
      problem = problemOf(e);
    }
  }
  const make = () => {
    const { actor, kind, subject, outcome } = meant;
    const body = { name, when, zone, format, tell: tell.trim() || undefined, actor, kind, subject, outcome };
    return act(() => take(api.POST("/audit/schedules", { body })));
  };
  const end = (s: Schemas["AuditSchedule"]) =>
    act(() => take(api.DELETE("/audit/schedules/{schedule}", { params: { path: { schedule: s.name } } })));
</script>

<div class="border-t border-gray-200 px-4 py-3 text-sm dark:border-gray-700">
  <Trouble problem={problem ?? list.problem} />
  <ul class="space-y-1" aria-label="Schedules of exports">
    {#each list.data?.items ?? [] as s (s.name)}
      <li class="flex flex-wrap items-center gap-2">
        <span class="font-medium">{s.name}</span>
        {s.when}, {s.zone}: {inWords(s.filter ?? {})}, as {s.format}, by {s.by}{s.tell
          ? `, tells ${s.tell}`
          : ""}; next
        <When at={s.next_at} />
        <Button size="xs" color="alternative" onclick={() => end(s)}>End</Button>
      </li>
    {/each}
  </ul>
  {#if open}
    <form
      class="mt-2 flex flex-wrap items-end gap-3"
      onsubmit={(e) => {
        e.preventDefault();
        make();
      }}>
      <Label>Name<Input size="sm" class="w-40" placeholder="quarter" bind:value={name} required /></Label>
      <Label>When, by the clock of {zone}<Input size="sm" class="w-72" bind:value={when} required /></Label>
      <Button size="sm" type="submit">Keep the schedule</Button>
      <Button size="sm" color="alternative" onclick={() => (open = false)}>Cancel</Button>
    </form>
  {:else}
    <Button size="xs" color="alternative" class="mt-2" onclick={() => (open = true)}
      >Export again and again …</Button>
  {/if}
</div>
