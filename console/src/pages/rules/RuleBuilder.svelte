<script lang="ts">
  // A rule being written, as a form and as text, which say the same; beside it what it would do, as it is typed.
  import { push, router } from "svelte-spa-router";
  import { Alert, Button, Input, Textarea } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import { count } from "../../lib/format";
  import Page from "../../lib/Page.svelte";
  import Panel from "../../lib/Panel.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import Warning from "../../lib/Warning.svelte";
  import RuleForm from "./RuleForm.svelte";
  import WouldDo, { countedUnasked } from "./WouldDo.svelte";
  import { blank, tidy, type Draft } from "./draft";
  import { guardEdits } from "../../lib/unsaved";

  let { params }: { params?: { rule?: string } } = $props();
  const asked = new URLSearchParams(router.querystring ?? "");
  let draft = $state<Draft>();
  let text = $state("");
  let view = $state<"form" | "text">("form");
  let preview = $state<Schemas["Preview"]>();
  let compared = $state<Schemas["Compared"]>();
  let problem = $state<Problem>();
  let reason = $state("");
  let dirty = $state(false);
  let busy = $state(false);
  let timer: ReturnType<typeof setTimeout>;
  let counting = $state(false);
  let counter = new AbortController();
  let asking = 0;

  async function begin() {
    try {
      if (params?.rule) {
        text = (await take(api.GET("/rules/{rule}", { params: { path: { rule: params.rule } } }))).text;
        await look({ text });
      } else {
        const stores = await take(api.GET("/stores"));
        const sources = await take(api.GET("/sources"));
        draft = blank(
          asked.get("source") ?? sources.items[0]?.name ?? "",
          asked.get("table") ?? "",
          asked.get("age") ?? "",
          stores.items[0]?.name ?? ""
        );
        await look({ rule: tidy(draft) });
      }
    } catch (e) {
      problem = problemOf(e);
    }
  }
  begin();
  $effect(() => guardEdits(() => dirty));

  $effect(() => () => {
    clearTimeout(timer);
    counter.abort();
  });

  // look asks what the rule would do; an answer that comes too late is dropped. What was estimated is counted next,
  // unless somebody types on.
  async function look(body: Schemas["Draft"]) {
    const turn = ++asking;
    counter.abort();
    counter = new AbortController();
    counting = !!body.exact;
    try {
      const answer = await take(api.POST("/rules/preview", { body, signal: counter.signal }));
      if (turn !== asking) return;
      counting = false;
      if (
        !body.exact &&
        answer.plan &&
        answer.plan.counts.spread.length < 2 &&
        answer.plan.counts.total <= countedUnasked
      )
        timer = setTimeout(() => look({ ...body, exact: true }), 700);
      preview = answer;
      if (body.exact) return; // what stands in the form and in the text is what was asked about
      problem = compared = undefined;
      if (body.rule) text = answer.text;
      else if (answer.rule) draft = answer.rule;
    } catch (e) {
      if (turn !== asking) return;
      counting = false;
      problem = problemOf(e);
    }
  }
  function later(body: () => Schemas["Draft"]) {
    dirty = true;
    clearTimeout(timer);
    timer = setTimeout(() => look(body()), 300);
  }
  function edit(d: Draft) {
    draft = d;
    later(() => ({ rule: tidy($state.snapshot(d) as Draft) }));
  }
  async function act(fn: () => Promise<void>) {
    busy = true;
    problem = undefined;
    try {
      await fn();
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
  const compare = () =>
    act(async () => void (compared = (await take(api.POST("/rules/compare", { body: { text } }))).rules[0]));
  const save = () =>
    act(async () => {
      const r = await take(api.POST("/rules", { body: { text, ...(reason && { reason }) } }));
      dirty = false;
      push(`/rules/${r.applied[0].rule}`);
    });
  let mistakes = $derived(preview?.problems.filter((p) => !p.warning) ?? []);
  let plan = $derived(preview?.plan ?? undefined);
</script>

<Page
  title={params?.rule ? `Change rule ${params.rule}` : "New rule"}
  about="Nothing is changed before you save; rows go only when a plan is run, by somebody or by the schedule."
  back={{ href: params?.rule ? `#/rules/${params.rule}` : "#/rules", text: params?.rule ?? "Rules" }}>
  {#snippet actions()}
    <Button size="sm" color="alternative" disabled={busy || mistakes.length > 0} onclick={compare}
      >Compare</Button>
    <Button size="sm" disabled={busy || (!dirty && !!params?.rule)} onclick={save}>Save</Button>
  {/snippet}
  <div aria-live="polite">
    <Trouble {problem} />
    {#if problem?.field === "reason"}<div class="mb-4 flex gap-2">
        <Input
          size="sm"
          aria-label="Reason"
          placeholder="the reason, which is kept"
          bind:value={reason} /><Button size="sm" disabled={!reason} onclick={save}
          >Save with this reason</Button>
      </div>{/if}
    {#if compared}<Alert color="blue" class="mb-4"
        >{compared.new ? "This rule is new: " : ""}{count(compared.gained)} rows become due, {count(
          compared.lost
        )} stop being due, {count(compared.both)} are due either way. {compared.changes.join("; ")}</Alert
      >{/if}
  </div>
  <div class="grid items-start gap-x-4 xl:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]">
    <Panel>
      <div
        role="tablist"
        aria-label="Form or text"
        class="flex gap-1 border-b border-gray-200 px-3 pt-2 dark:border-gray-700">
        {#each [["form", "Form"], ["text", "YAML"]] as [id, label] (id)}
          <button
            role="tab"
            aria-selected={view === id}
            class="rounded-t px-3 py-1.5 text-sm {view === id
              ? 'border-b-2 border-primary-500 font-semibold'
              : 'text-gray-600 dark:text-gray-400'}"
            onclick={() => (view = id as "form" | "text")}>{label}</button>
        {/each}
      </div>
      {#if view === "form"}
        {#if draft}<RuleForm {draft} change={edit} />{:else}<p class="p-4 text-sm">
            The text cannot be read as a rule; mend it under YAML.
          </p>{/if}
      {:else}
        <div class="p-3">
          <label for="yaml" class="sr-only">The rule as YAML</label><Textarea
            id="yaml"
            rows={22}
            bind:value={text}
            oninput={() => later(() => ({ text }))}
            class="w-full font-mono text-sm"
            spellcheck="false" />
        </div>
      {/if}
    </Panel>
    <div>
      {#if mistakes.length}<Trouble
          problem={{
            type: "",
            title: "The rule cannot be saved yet",
            status: 422,
            detail: "",
            problems: mistakes
          }} />{/if}
      {#if plan}
        <WouldDo {plan} {counting} ask={() => look({ text, exact: true })} />
        {#each plan.warnings as w (w)}<Warning class="mb-2">{w}</Warning>{/each}
      {/if}
    </div>
  </div>
</Page>
