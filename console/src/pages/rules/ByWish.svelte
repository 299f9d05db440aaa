<script lang="ts">
  // What somebody may want of a rule beside its schedule: to run now, not to fire for a while, not to run at all. Each
  // is done for a reason, which is kept.
  import { Button, Input } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { rule, times, done }: { rule: string; times: Schemas["RuleTimes"]; done: () => void } = $props();

  type Wish = "run" | "off" | "on" | "enable" | "disable";
  let wish = $state<Wish>();
  let reason = $state("");
  let problem = $state<Problem>();
  let said = $state("");
  const path = $derived({ params: { path: { rule } } });
  const wishes: Record<Wish, { label: string; done: string; act: () => Promise<unknown> }> = {
    run: {
      label: "Run now",
      done: "It fires; what becomes of that stands below.",
      act: () => take(api.POST("/firings", { body: { rule, reason } }))
    },
    off: {
      label: "Take it off its schedule",
      done: "It does not fire until somebody ends that.",
      act: () => take(api.POST("/rules/{rule}/schedule/off", { ...path, body: { reason } }))
    },
    on: {
      label: "Back to its schedule",
      done: "It fires again.",
      act: () => take(api.POST("/rules/{rule}/schedule/on", { ...path, body: { reason } }))
    },
    enable: {
      label: "Enable",
      done: "It is enabled.",
      act: () => take(api.PUT("/rules/{rule}/enabled", { ...path, body: { enabled: true, reason } }))
    },
    disable: {
      label: "Disable",
      done: "It runs no more.",
      act: () => take(api.PUT("/rules/{rule}/enabled", { ...path, body: { enabled: false, reason } }))
    }
  };
  let offered = $derived<Wish[]>(
    times.enabled
      ? (["run", ...(times.spoken ? [times.off ? "on" : "off"] : []), "disable"] as Wish[])
      : ["enable"]
  );
  async function act(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    try {
      await wishes[wish!].act();
      said = wishes[wish!].done;
      wish = undefined;
      reason = "";
      done();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<div class="px-4 py-3">
  <Trouble {problem} />
  {#if wish}
    <form class="flex flex-wrap items-center gap-2" onsubmit={act}>
      <Input size="sm" class="w-80" aria-label="Reason" placeholder="why; it is kept" bind:value={reason} />
      <Button size="sm" type="submit" disabled={!reason.trim()}>{wishes[wish].label}</Button>
      <Button size="sm" color="alternative" onclick={() => (wish = undefined)}>Not now</Button>
    </form>
  {:else}
    <div class="flex flex-wrap items-center gap-2">
      {#each offered as w (w)}<Button
          size="xs"
          color="alternative"
          onclick={() => {
            wish = w;
            said = "";
          }}>{wishes[w].label} …</Button
        >{/each}
      <span role="status" class="text-sm">{said}</span>
    </div>
  {/if}
</div>
