<script setup lang="ts">
// A small picture of what a dashboard looks like: the kinds of its blocks in their places.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { laidOut } from './order'

const props = defineProps<{ blocks: Schemas['TemplateBlock'][] }>()
const drawn = computed(() => laidOut(props.blocks))
const line = [0.7, 0.45, 0.6, 0.3, 0.5, 0.2, 0.35]
const points = (width: number, height: number, shift: number) => line.map((share, index) => `${(index / (line.length - 1)) * (width - 4) + 2},${2 + ((share + shift) % 0.9) * (height - 4)}`).join(' ')
const isLine = (show: string) => ['line', 'area', 'stacked-area', 'steps', 'scatter'].includes(show)
const isUpright = (show: string) => ['column', 'histogram', 'box'].includes(show)
</script>

<template>
  <svg viewBox="-4 -4 128 104" role="img" :aria-label="`Shows ${blocks.map((block) => block.title || block.show).join(', ')}`">
    <rect x="-4" y="-4" width="128" height="104" rx="4" class="page" />
    <g v-for="(block, index) in drawn" :key="index" :transform="`translate(${block.x} ${block.y})`">
      <template v-if="block.show === 'figures'">
        <g v-for="n in Math.max(1, Math.round(block.width / 32))" :key="n" :transform="`translate(${(n - 1) * (block.width / Math.max(1, Math.round(block.width / 32)))} 0)`">
          <rect width="14" height="6" rx="1" class="strong" /><rect y="8" width="20" height="2.4" rx="1" class="soft" />
        </g>
      </template>
      <template v-else-if="block.show === 'table'">
        <rect :width="block.width" height="3" rx="1" class="soft" />
        <g v-for="n in 4" :key="n" :transform="`translate(0 ${n * 5.4})`"><rect :width="block.width * 0.34" height="2.2" rx="1" class="faint" /><rect :x="block.width * 0.5" :width="block.width * 0.16" height="2.2" rx="1" class="faint" /><rect :x="block.width * 0.8" :width="block.width * 0.16" height="2.2" rx="1" class="faint" /></g>
      </template>
      <template v-else-if="isLine(block.show)">
        <path :d="`M0 0 V${block.height} H${block.width}`" class="axis" />
        <polyline :points="points(block.width, block.height, 0)" class="line" /><polyline :points="points(block.width, block.height, 0.35)" class="line other" />
      </template>
      <template v-else-if="block.show === 'timeline'">
        <g v-for="n in 3" :key="n" :transform="`translate(0 ${(n - 1) * 8})`"><rect :width="block.width * (0.5 + n * 0.1)" height="5" rx="1" class="well" /><rect :x="block.width * (0.5 + n * 0.1)" :width="block.width * 0.06" height="5" class="ill" /><rect :x="block.width * (0.56 + n * 0.1)" :width="block.width * (0.44 - n * 0.1)" height="5" rx="1" class="well" /></g>
      </template>
      <template v-else-if="block.show === 'share'">
        <rect :width="block.width * 0.55" height="9" rx="1" class="strong" /><rect :x="block.width * 0.56" :width="block.width * 0.28" height="9" rx="1" class="soft" /><rect :x="block.width * 0.85" :width="block.width * 0.15" height="9" rx="1" class="faint" />
      </template>
      <template v-else-if="isUpright(block.show)">
        <rect v-for="(share, n) in line" :key="n" :x="(n * block.width) / line.length" :y="block.height * share" :width="block.width / line.length - 2" :height="block.height * (1 - share)" class="strong" />
      </template>
      <template v-else-if="block.show === 'text'"><rect :width="block.width" height="2.4" rx="1" class="faint" /><rect y="4.4" :width="block.width * 0.7" height="2.4" rx="1" class="faint" /></template>
      <template v-else>
        <rect v-for="n in 4" :key="n" :y="(n - 1) * 6" :width="block.width * (1.05 - n * 0.2)" height="4" rx="1" class="strong" />
      </template>
    </g>
  </svg>
</template>

<style scoped>
svg { display: block; width: 100%; max-width: 11rem; border: 1px solid var(--line); border-radius: 6px; }
.page { fill: var(--paper); }
.strong { fill: var(--el-color-primary-light-3); }
.soft { fill: var(--el-color-primary-light-5, var(--muted)); opacity: 0.75; }
.faint { fill: var(--muted); opacity: 0.35; }
.axis { fill: none; stroke: var(--line); }
.line { fill: none; stroke: var(--el-color-primary-light-3); stroke-width: 1.6; }
.line.other { stroke: var(--warning); opacity: 0.7; }
.well { fill: var(--ok); opacity: 0.7; }
.ill { fill: var(--critical); }
</style>
