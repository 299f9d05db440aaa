<script lang="ts">
  // The guard rails of a source: what no rule may go below, whatever it says.
  import { Button, Input, Label } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import { several } from "../../lib/format";
  import Trouble from "../../lib/Trouble.svelte";

  let { source, done }: { source: string; done: () => void } = $props();
  const path = $derived({ params: { path: { source } } });
  let form = $state<Record<"live" | "archive" | "only" | "never" | "window" | "zone" | "approve", string>>();
  let problem = $state<Problem>();
  const guard = new Loader(() => take(api.GET("/sources/{source}/guard", path)));
  guard.load().then(() => {
    const g = guard.data;
    if (!g) return;
    form = {
      live: g.live ?? "",
      archive: g.archive ?? "",
      only: g.only?.join(", ") ?? "",
      never: g.never?.join(", ") ?? "",
      window: g.window?.join("; ") ?? "",
      approve: g.approve?.join(", ") ?? "",
      zone: g.zone || Intl.DateTimeFormat().resolvedOptions().timeZone
    };
  });
  const fields: [keyof NonNullable<typeof form>, string, string][] = [
    ["live", "Rows stay live at least", "not bound; or P90D"],
    ["archive", "Segments stay in the archive at least", "not bound; or P7Y"],
    ["only", "Only these tables may have rules", "all; or fare, notice"],
    ["never", "These tables may not", "none; or ledger"],
    ["window", "Runs work only", "at any time; or 22:00-05:00"],
    ["zone", "By the clock of", "UTC"],
    ["approve", "Others approve first", "nothing; or runs:2:above=10000, restores"]
  ];
  async function save(e: SubmitEvent) {
    e.preventDefault();
    if (!form) return;
    problem = undefined;
    try {
      const body: Schemas["Guard"] = {
        live: form.live.trim() || undefined,
        archive: form.archive.trim() || undefined,
        only: several(form.only, ","),
        never: several(form.never, ","),
        approve: several(form.approve, ","),
        window: several(form.window, ";"),
        zone: form.zone.trim() || undefined
      };
      await take(api.PUT("/sources/{source}/guard", { ...path, body }));
      done();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<form class="grid gap-x-4 gap-y-3 px-4 py-3 md:grid-cols-3" onsubmit={save}>
  <div class="empty:hidden md:col-span-3" aria-live="polite">
    <Trouble problem={guard.problem ?? problem} />
  </div>
  {#if form}
    {#each fields as [name, label, hint] (name)}
      <div>
        <Label for="guard-{name}">{label}</Label>
        <Input id="guard-{name}" size="sm" placeholder={hint} bind:value={form[name]} />
      </div>
    {/each}
    <div class="md:col-span-3"><Button type="submit" size="sm">Set the guard rails</Button></div>
  {/if}
</form>
