#pragma once

#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "io/stream.h"

namespace operculum::layout {

/// What a parameter of a codec or cipher takes.
/// A secret is bytes that may also be a key of the user's: its step gives nothing of it away.
enum class ParameterKind { number, bytes, text, secret };

/// An argument that a step takes.
struct StepParameter {
  std::string_view name;
  ParameterKind kind;
  bool required = false;
  std::int64_t number = 0;  ///< its default
  std::string_view text = {};
};

/// A parameter's value.
struct StepArgument {
  std::int64_t number = 0;
  Bytes bytes;
  std::string text;
  bool given = false;
};

using StepArguments = std::vector<StepArgument>;  // in the order of the parameters

/// A codec or a cipher as a description names it.
struct StepKind {
  std::string_view name;
  std::string_view about;  ///< one line for the reference
  std::vector<StepParameter> parameters;
  bool keeps_size = false;  ///< byte n of the output comes from byte n of the input
  StreamPtr (*open)(StreamPtr packed, const StepArguments& arguments, std::optional<std::uint64_t> size);
};

/// A codec or cipher with its arguments: one link of a chain.
struct Step {
  const StepKind* kind;
  StepArguments arguments;
};

/// All of them, in the order of the reference.
std::span<const StepKind> step_kinds();
const StepKind* find_step(std::string_view name);

}  // namespace operculum::layout
