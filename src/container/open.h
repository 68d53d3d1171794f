#pragma once

#include "container/identify.h"

namespace operculum {

/// A container and what it was recognised as.
struct Opened {
  const Format* format = nullptr;  ///< null when nothing claims the bytes
  ContainerPtr container;
  ContentPtr
      content;  ///< stands for the bytes from now on: what was read to recognise them is not decoded again
  std::vector<std::string> almost;  ///< see Probe::almost
};

/// Recognises alone: `container` stays empty.
Opened recognise_content(const ContentPtr& content, const std::string& name, OpenContext& context);

/// Recognises and opens; `container` is empty when no format claims the bytes.
Opened open_container(const Input& input, OpenContext& context);

}  // namespace operculum
