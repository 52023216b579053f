<script setup lang="ts">
// A field that asks for one thing: a word, a choice, a few texts.
import type { Schemas } from '../api/client'
import JsonFields from './JsonFields.vue'
import type { Field, Keys, Value } from './field'
import { isReference } from './fields'

const value = defineModel<Value>({ required: true })
const props = defineProps<{ field: Field; names?: Schemas['DefinitionName'][]; sources?: Schemas['SourceView'][]; label?: string; disabled?: boolean }>()
const zones = ['UTC', ...Intl.supportedValuesOf('timeZone')]
// A live page is looked at, not asked.
const suits = (known: Schemas['DefinitionName']) => known.kind === props.field.of && (props.field.of !== 'source' || known.name === value.value || props.sources?.find((one) => one.name === known.name)?.kind !== 'web-page')
const title = () => props.label ?? props.field.title
</script>

<template>
  <el-select v-if="field.as === 'choice'" v-model="(value as string)" :empty-values="[null, undefined]" :aria-label="title()" placeholder="Choose"><el-option v-for="one in field.choices" :key="one.value" :value="one.value" :label="one.label" /></el-select>
  <el-select v-else-if="field.as === 'named'" v-model="(value as string)" :empty-values="[null, undefined, '']" clearable filterable :value-on-clear="''" :aria-label="title()" placeholder="None"><el-option v-for="one in (names ?? []).filter(suits)" :key="one.name" :value="one.name" :label="one.title" /></el-select>
  <el-select v-else-if="field.as === 'texts'" v-model="(value as string[])" multiple filterable allow-create default-first-option :aria-label="title()" placeholder="Enter ends each" />
  <el-switch v-else-if="field.as === 'truth'" v-model="(value as boolean)" :active-text="title()" :aria-label="title()" />
  <JsonFields v-else-if="field.as === 'json-fields'" v-model="(value as Keys[])" :title="title()" />
  <el-select v-else-if="field.as === 'zone'" v-model="(value as string)" filterable clearable :aria-label="title()" placeholder="The report’s"><el-option v-for="one in zones" :key="one" :value="one" :label="one" /></el-select>
  <el-input v-else-if="field.as === 'secret' && field.lines" v-model="(value as string)" type="textarea" :rows="4" :class="{ masked: !isReference(String(value)) }" autocomplete="off" spellcheck="false" :aria-label="title()" />
  <el-input v-else-if="field.as === 'secret'" v-model="(value as string)" :type="isReference(String(value)) ? 'text' : 'password'" autocomplete="new-password" :aria-label="title()" />
  <el-input v-else-if="field.as === 'long'" v-model="(value as string)" type="textarea" :rows="8" :aria-label="title()" />
  <el-input v-else v-model="(value as string)" :disabled="disabled" :placeholder="field.isTable ? undefined : field.usual" :aria-label="title()" :inputmode="field.as === 'number' ? 'numeric' : undefined" />
</template>

<style scoped>
/* Several lines, which a field for passwords cannot have. */
.masked :deep(textarea) {
  -webkit-text-security: disc;
}
</style>
