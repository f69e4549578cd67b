<script lang="ts">
  import { Button } from "bits-ui";

  // Shown instead of missing content: the reason, and what to do about it.
  type Props = { title: string; text: string; command?: string; action?: string; onaction?: () => void };
  let { title, text, command, action, onaction }: Props = $props();
</script>

<div class="sheet px-6 py-8" role="status">
  <h2 class="text-base font-semibold">{title}</h2>
  <p class="mt-1 max-w-prose text-soft">{text}</p>
  {#if command}<pre class="mt-3 overflow-x-auto rounded-control border border-line bg-paper px-3 py-2"><code
        >{command}</code
      ></pre>{/if}
  {#if action}<Button.Root class="control mt-4" onclick={onaction}>{action}</Button.Root>{/if}
</div>
