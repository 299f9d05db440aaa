<script lang="ts">
  // The text of a named keep or schedule, checked as it is typed.
  import { untrack } from "svelte";
  import { Button, Textarea } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Reason from "../../lib/Reason.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";

  let {
    text: given,
    done,
    cancel
  }: { text: string; done: (said: string) => void; cancel: () => void } = $props();
  let text = $state(untrack(() => given));
  let reason = $state("");
  let problem = $state<Problem>();
  let found = $state<Schemas["RuleProblem"][]>([]);
  let timer: ReturnType<typeof setTimeout>;

  async function check() {
    try {
      found = (await take(api.POST("/rules/check", { body: { text } }))).problems;
      problem = undefined;
    } catch (e) {
      problem = problemOf(e);
    }
  }
  function typed() {
    clearTimeout(timer);
    timer = setTimeout(check, 300);
  }
  check();
  $effect(() => () => clearTimeout(timer));

  async function save() {
    clearTimeout(timer);
    try {
      const r = await take(api.POST("/rules", { body: { text, ...(reason && { reason }) } }));
      done(r.applied.map((a) => `${a.rule}: ${a.changes.join("; ") || "as it was"}`).join(". "));
    } catch (e) {
      problem = problemOf(e);
    }
  }
  let mistakes = $derived(found.filter((p) => !p.warning));
  let mistaken = $derived({ type: "", title: "It cannot be applied yet", status: 422, detail: "" });
</script>

<div class="px-4 py-3">
  <div aria-live="polite">
    <Trouble {problem} />
    {#if problem?.field === "reason"}<Reason bind:reason text="Apply with this reason" {save} />{/if}
    {#if mistakes.length && !problem}<Trouble problem={{ ...mistaken, problems: mistakes }} />{/if}
    {#each found.filter((p) => p.warning) as w, i (i)}<Warning class="mb-2">{w.field}: {w.message}</Warning
      >{/each}
  </div>
  <label for="named" class="sr-only">The text as YAML</label>
  <Textarea
    id="named"
    rows={6}
    bind:value={text}
    oninput={typed}
    class="w-full font-mono text-sm"
    spellcheck="false" />
  <div class="mt-2 flex flex-wrap items-center gap-2">
    <Button size="sm" disabled={mistakes.length > 0} onclick={save}>Apply</Button>
    <Button size="sm" color="alternative" onclick={cancel}>Not now</Button>
  </div>
</div>
