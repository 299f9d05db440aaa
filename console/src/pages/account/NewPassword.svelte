<script lang="ts">
  // Changes the password of who is signed in. known: the one that they have just signed in with.
  import { Button, Input, Label } from "../../lib/ui";
  import { api, take, type Problem } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  let { known = "", done }: { known?: string; done: () => void } = $props();
  let old = $state("");
  let fresh = $state("");
  let again = $state("");
  let problem = $state<Problem>();
  let differs = $derived(again !== "" && again !== fresh);

  async function submit(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    try {
      await take(api.POST("/session/password", { body: { password: known || old, new_password: fresh } }));
      old = fresh = again = "";
      done();
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<Trouble {problem} />
<form onsubmit={submit} class="max-w-sm space-y-3">
  {#if !known}<Label
      >Your password<Input
        id="old-password"
        class="mt-1"
        type="password"
        autocomplete="current-password"
        required
        bind:value={old} /></Label
    >{/if}
  <Label
    >New password<Input
      id="new-password"
      class="mt-1"
      type="password"
      autocomplete="new-password"
      minlength={12}
      required
      bind:value={fresh} /></Label>
  <Label
    >The same again<Input
      id="again-password"
      class="mt-1"
      type="password"
      autocomplete="new-password"
      aria-invalid={differs}
      required
      bind:value={again} /></Label>
  <p class="text-sm text-gray-600 dark:text-gray-400">
    {differs
      ? "These are two different passwords."
      : "12 characters at least: some words that belong together for you alone."}
  </p>
  <Button type="submit" size="sm" disabled={differs || !again}>Change the password</Button>
</form>
