<script lang="ts">
  // What files declare beside what is in force: who wants it to live in version control sees here what differs.
  import { Button, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, plural } from "../../lib/format";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Reason from "../../lib/Reason.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";

  type Thing = Schemas["DeclaredThing"];
  const list = new Loader(() => take(api.GET("/declared")));
  list.load();
  let shown = $state("");
  let all = $state(false);
  const most = 500; // that are shown
  let items = $derived(
    list.data?.items.filter((t) => all || (t.state !== "same" && t.state !== "undeclared")).slice(0, most)
  );
  let busy = $state(false);
  let reason = $state("");
  let last = $state<string[]>([]);
  let problem = $state<Problem>();
  const name = (t: Thing) => `${t.kind} ${t.name}`;
  const says: Record<Thing["state"], string> = {
    same: "as declared",
    new: "not in force yet",
    newer: "the file was changed since it was taken up",
    changed: "somebody changed it in the service since",
    conflict: "the file and the service both say something else than was taken up",
    gone: "in no file any more, and still in force",
    undeclared: "in no file"
  };
  let faults = $derived(list.data?.problems.filter((p) => !p.warning) ?? []);
  let faulty = $derived({ type: "", title: "Not all of it is in force", status: 422, detail: "" });

  async function apply(over: string[]) {
    busy = true;
    problem = undefined;
    last = over;
    try {
      list.data = await take(api.POST("/declared", { body: { over, reason: reason || undefined } }));
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<Trouble problem={list.problem ?? problem} />
{#if list.data && !list.data.dir}
  <Panel
    ><Blank title="Nothing is declared in files"
      >Sources, stores, keeps, schedules and rules can live in version control: start the service with
      <code>-declare DIR</code>. <code>ambercellar declared print</code> writes what is in force as such a file.</Blank
    ></Panel>
{:else if list.data}
  {#if faults.length}<Trouble problem={{ ...faulty, problems: faults }} />{/if}
  {#if faults.some((p) => p.field === "reason")}<Reason
      bind:reason
      text="Take up with this reason"
      save={() => apply(last)} />{/if}
  {#each list.data.problems.filter((p) => p.warning) as w, i (i)}<Warning class="mb-3"
      >{w.file}:{w.line}: {w.message}</Warning
    >{/each}
  <div class="mb-3 flex items-center gap-3 text-sm">
    <Act right="administer" size="sm" color="alternative" disabled={busy} onclick={() => apply([])}
      >{busy ? "Working …" : "Take up what is new"}</Act>
    <Button size="sm" color="alternative" aria-pressed={all} onclick={() => (all = !all)}
      >{all ? "Show what differs" : `Show all ${count(list.data.items.length)}`}</Button>
    <span class="break-all text-gray-600 dark:text-gray-400"
      >{list.data.dir}; {plural(list.data.items.filter((t) => t.drifts).length, "difference")} to decide</span>
  </div>
  <Panel>
    <Listing label="Declared" heads={["What", "File", "State", "What that says", ""]} {items}>
      {#snippet row(t: Thing)}
        <TableBodyRow>
          <TableBodyCell class="font-medium">{name(t)}</TableBodyCell>
          <TableBodyCell>{t.file ? `${t.file}${t.line ? `:${t.line}` : ""}` : "–"}</TableBodyCell>
          <TableBodyCell><State state={t.state} /></TableBodyCell>
          <TableBodyCell class="whitespace-normal"
            >{says[t.state]}
            {#if shown === name(t)}<pre
                class="mt-1 overflow-x-auto font-mono text-xs">{t.difference}</pre>{/if}</TableBodyCell>
          <TableBodyCell class="text-right">
            <span class="inline-flex gap-1">
              {#if t.difference}<Button
                  size="xs"
                  color="alternative"
                  aria-expanded={shown === name(t)}
                  onclick={() => (shown = shown === name(t) ? "" : name(t))}>Difference</Button
                >{/if}
              {#if t.drifts}<Act
                  right="administer"
                  size="xs"
                  color="red"
                  disabled={busy}
                  onclick={() => apply([name(t)])}>Take up over it</Act
                >{:else if t.state === "gone"}<Act
                  right="administer"
                  size="xs"
                  color="alternative"
                  disabled={busy}
                  onclick={() => apply([name(t)])}>Not declared any more</Act
                >{/if}
            </span>
          </TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="All that is declared is in force" />{/snippet}
    </Listing>
  </Panel>
{/if}
