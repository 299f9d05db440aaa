<script lang="ts">
  import { Alert, Button, Textarea } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Reason from "../../lib/Reason.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";

  let text = $state("");
  let reason = $state("");
  let problem = $state<Problem>();
  let result = $state<Schemas["RuleResult"]>();
  let checked = $state(false);

  async function send(path: "/rules" | "/rules/check") {
    problem = result = undefined;
    try {
      result = await take(api.POST(path, { body: { text, ...(reason && { reason }) } }));
      checked = path === "/rules/check";
    } catch (e) {
      problem = problemOf(e);
    }
  }
  let mistakes = $derived(result?.problems.filter((p) => !p.warning) ?? []);
  let warnings = $derived(result?.problems.filter((p) => p.warning) ?? []);
</script>

<Page
  title="Apply a file of rules"
  about="One rule or named keep, or several separated by lines of three dashes. All are applied, or none."
  back={{ href: "#/rules", text: "Rules" }}>
  {#snippet actions()}
    <Button size="sm" color="alternative" onclick={() => send("/rules/check")}>Check</Button>
    <Button size="sm" onclick={() => send("/rules")}>Apply</Button>
  {/snippet}
  <div aria-live="polite">
    <Trouble {problem} />
    {#if problem?.field === "reason"}<Reason
        bind:reason
        text="Apply with this reason"
        save={() => send("/rules")} />{/if}
    {#if mistakes.length}<Trouble
        problem={{
          type: "",
          title: "The rule cannot be applied",
          status: 422,
          detail: "",
          problems: mistakes
        }} />{/if}
    {#each warnings as w, i (i)}<Warning class="mb-2"
        >{w.field}: {w.message}{w.remedy ? `; ${w.remedy}` : ""}</Warning
      >{/each}
    {#if result && checked && !mistakes.length}<Alert color="green" class="mb-3"
        >No mistakes. Nothing was changed yet.</Alert
      >{/if}
    {#each result?.applied ?? [] as a (a.rule)}
      <Alert color="green" class="mb-3"
        >{#if a.keep}Keep {a.rule}{:else}Rule <a class="text-link" href="#/rules/{a.rule}">{a.rule}</a>,
          revision
          {a.revision}{/if}:
        {a.changes.join("; ") || "as it was"}</Alert>
    {/each}
  </div>
  <Panel>
    <div class="p-3">
      <label for="rules" class="sr-only">Rules as YAML</label>
      <Textarea id="rules" rows={20} bind:value={text} class="w-full font-mono text-sm" spellcheck="false" />
    </div>
  </Panel>
</Page>
